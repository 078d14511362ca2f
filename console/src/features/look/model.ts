import type { Schemas } from "../../api/client";

/** Where something is looked up: a host as it is now, or a stored snapshot. */
export interface Where {
  host?: string;
  snapshot?: string;
}

/** Whether two are the same. */
export const sameWhere = (a: Where, b: Where) =>
  (a.host ?? "") === (b.host ?? "") && (a.host !== undefined || (a.snapshot ?? "") === (b.snapshot ?? ""));

/** Something to look at that may be chosen: what it is called, and what finds it. */
export interface Place {
  key: string;
  where: Where;
  says: string;
  detail: string;
  finds: string;
}

const near = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

/** Hosts as they are now, and then snapshots, the newest first and each once. */
export function placesOf(hosts: readonly string[], snapshots: readonly Schemas["Snapshot"][]): Place[] {
  const place = (where: Where, says: string, detail: string, more = ""): Place => ({
    key: where.host ? `host ${where.host}` : `snapshot ${where.snapshot}`,
    where,
    says,
    detail,
    finds: `${says} ${detail} ${more}`.toLowerCase(),
  });
  const ready = new Map(snapshots.filter((s) => s.state === "ready").map((s) => [s.id, s]));
  return [
    ...hosts.map((h) => place({ host: h }, h, "now")),
    ...[...ready.values()]
      .toSorted((a, b) => (b.taken ?? "").localeCompare(a.taken ?? ""))
      .map((s) =>
        place(
          { snapshot: s.id },
          `${s.host}, ${s.taken ? near.format(new Date(s.taken)) : ""}`,
          s.application,
          `${s.id} ${s.taken ?? ""}`,
        ),
      ),
  ];
}

/** The host that somebody means by what they type: the one whose name they typed, or the only one that has it. */
export function hostMeant(hosts: readonly string[], text: string): string | undefined {
  const words = text
    .toLowerCase()
    .split(/[\s,]+/)
    .filter(Boolean);
  const exact = hosts.find((h) => words.includes(h.toLowerCase()));
  if (exact || words.length === 0) return exact;
  const having = hosts.filter((h) => words.some((w) => h.toLowerCase().includes(w)));
  return having.length === 1 ? having[0] : undefined;
}

/** What is supposed beside what is: an edition, a plan, a group joined. */
export interface Supposed {
  joining?: string[];
  edition?: string;
  plan?: string;
}

/** The folder that a path lies in; escaped names hold no slash. */
export const folderOf = (path: string) => path.slice(0, Math.max(path.lastIndexOf("/"), 1));

/** The folders on the way to one, from / on, and itself. */
export function branchesOf(folder: string): string[] {
  const parts = folder.split("/").filter(Boolean);
  return ["/", ...parts.map((_, i) => `/${parts.slice(0, i + 1).join("/")}`)];
}

/** The declared mode among findings, if one is of that: so that the cells that differ are ringed. */
export const declaredMode = (findings: readonly Schemas["PathFinding"][] | null | undefined) =>
  findings?.find((f) => f.aspect === "mode" && /^[0-7]{4}$/.test(f.declared))?.declared;

/** The flags that make a command ask where the page asks. */
export const flagsOf = (w: Where) => (w.host ? `--host ${w.host}` : `--snapshot ${w.snapshot}`);

/** Names with commas between them. */
export const named = (text: string) =>
  text
    .split(",")
    .map((n) => n.trim())
    .filter(Boolean);

/** A word as a shell takes it. */
export const quoted = (s: string) => (/^[\w./-]+$/.test(s) ? s : `'${s.replaceAll("'", String.raw`'\''`)}'`);

/** Something that was looked at: where, and which path. */
export interface Looked extends Where {
  path: string;
}

/** The address of something that was looked at, with what else is asked of it. */
export const lookAt = (at: Looked, more: Record<string, string> = {}) =>
  `/look?${new URLSearchParams({ ...(at.host ? { host: at.host } : { snapshot: at.snapshot ?? "" }), path: at.path, ...more }).toString()}`;

/** What was looked at lately, the newest first, each once. */
export const lately = (list: readonly Looked[], at: Looked, most = 8): Looked[] =>
  [at, ...list.filter((x) => lookAt(x) !== lookAt(at))].slice(0, most);

/** Questions that people come with, asked of a path by way of example. */
export const questions = (at: Looked): { says: string; to: string }[] => [
  { says: "Who can write here?", to: lookAt(at, { tab: "who", operation: "write" }) },
  { says: "What can everybody write below it?", to: lookAt(at, { tab: "below", for: "everyone", operation: "write" }) },
  { says: "What would a new file get here?", to: lookAt(at) },
];

/** Owners, mode and flags of a path, in one line; or why they could not be read. */
function brief({ access: a, gap }: Schemas["Sight"]): string {
  if (!a) return gap ?? "";
  const parts = [
    `owner ${a.owner}`,
    a.group ? `group ${a.group}` : "",
    a.mode ? `mode ${a.mode} ${a.letters}` : "",
    a.inheritance ? `inheritance: ${a.inheritance}` : "",
    ...(a.flags ?? []),
  ];
  return parts.filter(Boolean).join(", ");
}

/** What there is to say of a path, as lines for a ticket: whoever reads them has no console before them. */
export function told(sight: Schemas["Sight"], address: string, now: Date): { text: string; strong?: boolean }[] {
  const { origin } = sight;
  const from = `as of ${origin.live ? now.toISOString() : origin.at}`;
  const under = (heading: string, list: readonly string[]) =>
    list.length > 0 ? [`${heading}:`, ...list.map((text) => `  ${text}`)] : [];
  const entries = sight.entries?.map((e) => (e.effective === e.rights ? e.text : `${e.text} (counts: ${e.effective})`));
  const findings = sight.findings?.map(
    (f) => `${f.aspect}: declared ${f.declared}, found ${f.found}; ${f.meaning}; rule ${f.rule}`,
  );
  const lines = [
    `${sight.kind} on ${origin.host}, ${from}${origin.snapshot ? `, snapshot ${origin.snapshot}` : ""}`,
    brief(sight),
    ...under("entries", entries ?? []),
    ...under("in words", sight.words ?? []),
    ...under("not as declared", findings ?? []),
    address,
  ];
  return [{ text: sight.path, strong: true }, ...lines.filter(Boolean).map((text) => ({ text }))];
}
