import type { Schemas } from "../../api/client";

import type { Wish } from "../../shared/wish";
import { quoted } from "../look/model";

/** What an address asks to be changed: wishes field by field, or just paths. */
export function wishesOf(search: URLSearchParams): Wish[] {
  const given = search.getAll("wish").flatMap((text) => {
    try {
      const w = JSON.parse(text) as Wish;
      return Array.isArray(w.paths) && w.paths.every((p) => typeof p === "string") ? [w] : [];
    } catch {
      return [];
    }
  });
  const paths = search.getAll("path");
  return given.length > 0 ? given : [{ paths }];
}

const under = (path: string, root: string) => path === root || path.startsWith(root === "/" ? "/" : `${root}/`);

/** The application whose newest snapshots of a host hold all the paths; the one with the nearest root. */
export function applicationOf(
  snapshots: readonly Pick<Schemas["Snapshot"], "application" | "roots">[],
  paths: readonly string[],
): string | undefined {
  let best: { application: string; length: number } | undefined;
  for (const s of snapshots) {
    const root = s.roots?.find((r) => paths.length > 0 && paths.every((p) => under(p, r)));
    if (root !== undefined && (!best || root.length > best.length))
      best = { application: s.application, length: root.length };
  }
  return best?.application;
}

/** The command that asks the same. */
export function commandOf(application: string, host: string, w: Wish): string {
  const out = ["idletally change", ...w.paths.map(quoted), `--application ${application || "APPLICATION"}`];
  if (host) out.push(`--host ${host}`);
  const flag = (name: string, value: string | undefined) => {
    if (value) out.push(`--${name} ${quoted(value)}`);
  };
  const all = (name: string, list: readonly string[] | undefined) => list?.forEach((v) => flag(name, v));
  flag("depth", w.depth === "itself" ? undefined : w.depth);
  all("only", w.only);
  for (const [key, value] of Object.entries(w.where ?? {})) if (value) flag("where", `${key}=${value}`);
  flag("form", w.form);
  all("for", w.for);
  for (const key of ["owner", "group", "files", "folders"] as const) flag(key, w.set?.[key]);
  for (const e of [w.entries, w.grants]) {
    all("grant", e?.give);
    all("take", e?.without);
    if (e?.none) out.push("--no-other-entries");
  }
  if (w.later) out.push("--later");
  flag("inherits", w.inherits);
  return out.join(" ");
}

/** What a change comes to, in one sentence, for those who hear it rather than see it. */
export function sentence(f: Schemas["Foreseen"]): string {
  if (f.steps === 0) return "Nothing would change.";
  const who = (list: readonly Schemas["Affected"][]) =>
    list
      .slice(0, 3)
      .map((a) => (a.group ? `group ${a.who}` : a.who))
      .join(", ") + (list.length > 3 ? ` and ${list.length - 3} more` : "");
  const parts = [f.steps === 1 ? "1 path would change" : `${f.steps.toLocaleString()} paths would change`];
  if (f.gains.length > 0) parts.push(`${who(f.gains)} could do more`);
  if (f.losses.length > 0) parts.push(`${who(f.losses)} could do less`);
  if (f.gains.length + f.losses.length === 0) parts.push("nobody's access differs");
  const grave = f.cautions.filter((c) => c.grave).length;
  if (grave > 0) parts.push(grave === 1 ? "1 grave caution" : `${grave} grave cautions`);
  return `${parts.join("; ")}.`;
}

/** What the published baseline says of what a host would be like. */
export function againstBaseline(h: Schemas["ForeseenHost"]): string {
  const { steps, undeclared = 0, mended = 0 } = h;
  const edition = `edition ${h.edition} of the baseline`;
  const some = (n: number) => (n === steps ? (n === 1 ? "It" : "All of them") : n.toLocaleString());
  if (undeclared > 0) return `${some(undeclared)} would not be as ${edition} declares: drift from then on.`;
  if (mended > 0) return `${some(mended)} would be as ${edition} declares, and ${mended === 1 ? "is" : "are"} not now.`;
  return `By ${edition} that is neither drift nor the end of any.`;
}
