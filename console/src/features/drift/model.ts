import type { Finding, Group, Report, Schemas } from "../../api/client";
import { within } from "../../shared/paths";

/** Equal findings as the group of each host that has them. */
export const byHost = (e: Schemas["EqualGroup"]) =>
  (e.members ?? []).map((m) => ({ ...e, host: m.host, report: m.report, count: m.count }));

/** Equal findings: of one host, or of several as one. */
export interface Line extends Group {
  parts: readonly Group[];
}

type Origins = readonly Schemas["DriftOrigin"][] | null | undefined;

/** What stands behind findings of several hosts, what is behind most of them first. */
function joined(lists: readonly Origins[]): Schemas["DriftOrigin"][] {
  const sums = new Map<string, number>();
  for (const list of lists) for (const o of list ?? []) sums.set(o.what, (sums.get(o.what) ?? 0) + o.findings);
  return [...sums]
    .map(([what, findings]) => ({ what, findings }))
    .toSorted((a, b) => b.findings - a.findings || a.what.localeCompare(b.what));
}

/** The deepest folder that holds two, of which each may be a path with its name. */
function holding(a: string, b: string): string {
  const [x, y] = [a.split("/"), b.split("/")];
  const differs = x.findIndex((name, i) => name !== y[i]);
  return differs < 0 ? a : x.slice(0, differs).join("/") || "/";
}

/** Groups of hosts as lines: equal ones are one, where the same was accepted of them. */
export function linesOf(groups: readonly Group[]): Line[] {
  const by = new Map<string, Group[]>();
  for (const g of groups) {
    const key = `${g.id} ${g.waiver?.id ?? ""}`;
    by.set(key, [...(by.get(key) ?? []), g]);
  }
  const sum = (parts: readonly Group[], of: (g: Group) => number | undefined) =>
    parts.reduce((n, g) => n + (of(g) ?? 0), 0);
  return [...by.values()].map((parts) => {
    const [first] = parts as [Group];
    if (parts.length === 1) return { ...first, parts };
    const since = parts.flatMap((g) => g.since ?? []).toSorted()[0];
    return {
      ...first,
      since, // by is of one path
      by: undefined,
      parts,
      count: sum(parts, (g) => g.count),
      fresh: sum(parts, (g) => g.fresh),
      returned: sum(parts, (g) => g.returned),
      unread: sum(parts, (g) => g.unread),
      folder: parts.map((g) => g.folder).reduce(holding),
      doers: joined(parts.map((g) => g.doers)),
      causes: joined(parts.map((g) => g.causes)),
    };
  });
}

/** Equal findings of all hosts, as the service puts them together, as lines. */
export const linesOfEqual = (list: readonly Schemas["EqualGroup"][]): Line[] =>
  list.map((e) => ({ ...e, count: e.total, parts: byHost(e) }));

/** A finding by itself, as it was when it was chosen. */
export type Single = { host: string; report: string; seq: number; path: string; aspect: string; group: string };

/** What was put in a basket: groups by their keys, and single findings. */
export type Content = { groups: readonly string[]; singles: readonly Single[] };

/** Names a group whatever the report. */
export const groupKey = (g: Pick<Group, "host" | "id">) => `${g.host}/${g.id}`;

/** Names a finding whatever the report. */
export const singleKey = (s: Pick<Single, "host" | "path" | "aspect">) => `${s.host}/${s.aspect}${s.path}`;

/** What of a basket is still there to be mended: a finding whose group was chosen as a whole counts once. */
export function chosenOf(content: Content, groups: readonly Group[]) {
  const chosen = new Set(content.groups);
  const whole = groups.filter((g) => chosen.has(groupKey(g)));
  const inWhole = new Set(whole.map(groupKey));
  const singles = content.singles.filter((s) => !inWhole.has(groupKey({ host: s.host, id: s.group })));
  return { groups: whole, singles, findings: whole.reduce((n, g) => n + g.count, 0) + singles.length };
}

/** The basket with groups put in, or taken out. */
export function withGroups(content: Content, list: readonly Group[], on: boolean): Content {
  const keys = new Set(list.map(groupKey));
  return {
    singles: content.singles,
    groups: on ? [...new Set([...content.groups, ...keys])] : content.groups.filter((k) => !keys.has(k)),
  };
}

/** The basket without a finding. */
export const without = (content: Content, s: Single): Content => ({
  groups: content.groups,
  singles: content.singles.filter((x) => singleKey(x) !== singleKey(s)),
});

/** The basket with a finding of a host put in, or taken out. */
export function withSingle(content: Content, f: Finding, host: string, on: boolean): Content {
  const s = { host, report: f.report, seq: f.seq, path: f.path, aspect: f.aspect, group: f.group };
  const others = without(content, s);
  return on ? { groups: others.groups, singles: [...others.singles, s] } : others;
}

/** The newest report of a host, where it is another one than a finding was chosen from. */
export const later = (s: Single, reports: readonly Report[]) =>
  reports.find((r) => r.host === s.host && r.id !== s.report);

/** What of the findings is looked at, and in which order; "" leaves nothing out. */
export interface Sieve {
  effect: string;
  severity: string;
  rule: string;
  aspect: string;
  age: string; // new, or returned
  since: string; // for how long the oldest of them are there
  who: string; // gains or loses by it
  doer: string; // did the last thing to the paths
  cause: string;
  below: string; // a folder
  under: string; // what headings say
  sort: string;
  now: number; // milliseconds since 1970
}

/** What of it is changed. */
export type Narrowing = Partial<Omit<Sieve, "now">>;

const fields = [
  "effect",
  "severity",
  "rule",
  "aspect",
  "age",
  "since",
  "who",
  "doer",
  "cause",
  "below",
  "under",
  "sort",
] as const satisfies readonly (keyof Sieve)[];

/** What an address says of it, at some time. */
export function sieveOf(search: URLSearchParams, now: number): Sieve {
  const of = Object.fromEntries(fields.map((f) => [f, search.get(f) ?? ""]));
  return { ...(of as Record<(typeof fields)[number], string>), now };
}

export type Facet = Exclude<keyof Sieve, "sort" | "below" | "under" | "now">;

/** What leaves nothing out, in whichever order. */
export const all: Narrowing = Object.fromEntries(
  fields.filter((f) => f !== "sort" && f !== "under").map((f) => [f, ""]),
);

const ranks: readonly string[] = ["grave", "serious", "minor"];

/** The groups without the age of those of a host's first report, in which all is new and nothing is told by that. */
export function aged(groups: readonly Group[]): Group[] {
  const later = new Set(groups.filter((g) => g.fresh !== g.count).map((g) => g.report));
  return groups.map(({ since, ...g }) =>
    later.has(g.report) ? { ...g, ...(since ? { since } : {}) } : { ...g, fresh: 0 },
  );
}

/** Who can do more, or less, by a group's findings. */
const parties = (g: Group) =>
  [...(g.effect.opens ?? []), ...(g.effect.closes ?? [])].map((x) => (x.group ? `group ${x.who}` : x.who));

const day = 24 * 60 * 60 * 1000;
const spans = [
  ["at most a day", 1],
  ["at most a week", 7],
  ["at most a month", 31],
] as const;

/** For how long the oldest of some findings are there: what is there for a day is there for at most a week, too. */
function spansOf(since: string | undefined, now: number): readonly string[] {
  if (!since) return [];
  const fits = spans.filter(([, days]) => now - Date.parse(since) <= days * day).map(([name]) => name);
  return fits.length > 0 ? fits : ["longer"];
}

/** The values that a group has of a facet. */
function valuesOf(g: Group, facet: Facet, now: number): readonly string[] {
  switch (facet) {
    case "effect":
      return g.word === "both" ? ["opens", "closes", "both"] : [g.word];
    case "age":
      return [...(g.fresh ? ["new"] : []), ...(g.returned ? ["returned"] : [])];
    case "since":
      return spansOf(g.since, now);
    case "who":
      return parties(g);
    case "doer":
      return (g.doers ?? []).map((o) => o.what);
    case "cause":
      return (g.causes ?? []).map((o) => o.what);
    default:
      return [g[facet]];
  }
}

const facets = fields.filter((f) => f !== "sort" && f !== "below" && f !== "under");

/** How a folder stands to another: in it or it, around it, or beside it. */
function stands(folder: string, to: string): "in" | "around" | "beside" {
  if (within(folder, to)) return "in";
  return within(to, folder) ? "around" : "beside";
}

/** Where a group's findings are: in its folder, or it is one path. */
const place = (g: Group) => (g.count === 1 ? g.example : g.folder);

const passes = (g: Group, s: Sieve, but?: Facet) =>
  (s.below === "" || stands(place(g), s.below) !== "beside") &&
  facets.every((f) => f === but || s[f] === "" || valuesOf(g, f, s.now).includes(s[f]));

/** How many of the groups have findings beside the folder that is looked at, too. */
export const around = (groups: readonly Group[], s: Sieve) =>
  s.below === "" ? 0 : groups.filter((g) => passes(g, s) && stands(place(g), s.below) === "around").length;

const orders: Record<string, (a: Group, b: Group) => number> = {
  count: (a, b) => b.count - a.count,
  severity: (a, b) => ranks.indexOf(a.severity) - ranks.indexOf(b.severity),
  newest: (a, b) => (b.since ?? "").localeCompare(a.since ?? ""),
  rule: (a, b) => a.rule.localeCompare(b.rule),
  folder: (a, b) => a.folder.localeCompare(b.folder),
};

/** The groups that are looked at, in their order. What is accepted for a time stands apart, at the end. */
export const sieved = <G extends Group>(groups: readonly G[], s: Sieve): G[] =>
  groups
    .filter((g) => passes(g, s))
    .toSorted((a, b) => Number(Boolean(a.waiver)) - Number(Boolean(b.waiver)) || (orders[s.sort]?.(a, b) ?? 0));

/** The values of a facet that are there beside what else is chosen, with how many findings have each, most first. */
export function choices(groups: readonly Group[], s: Sieve, facet: Facet): { value: string; count: number }[] {
  const counts = new Map<string, number>();
  for (const g of groups)
    if (!g.waiver && passes(g, s, facet))
      for (const v of new Set(valuesOf(g, facet, s.now)))
        if (v !== "both") counts.set(v, (counts.get(v) ?? 0) + findingsOf(g, facet, v));
  const list = [...counts].map(([value, count]) => ({ value, count }));
  if (facet !== "since") return list.toSorted((a, b) => b.count - a.count);
  const order = [...spans.map(([name]) => name as string), "longer"];
  return list.toSorted((a, b) => order.indexOf(a.value) - order.indexOf(b.value));
}

/** How many findings of a group have a value: of their age and where they come from some have one, and others not. */
function findingsOf(g: Group, facet: Facet, value: string): number {
  const origin = (list: Origins) => list?.find((o) => o.what === value)?.findings ?? 0;
  switch (facet) {
    case "age":
      return (value === "new" ? g.fresh : g.returned) ?? 0;
    case "doer":
      return origin(g.doers);
    case "cause":
      return origin(g.causes);
    default:
      return g.count;
  }
}

/** What stands over lines: what most of a line's findings have. Lines without one come last. */
function headingOf(l: Line, under: string): string {
  switch (under) {
    case "host":
      return l.parts.length > 1 ? `${l.parts.length.toLocaleString()} hosts` : l.host;
    case "rule":
    case "severity":
    case "folder":
      return l[under];
    case "cause":
      return l.causes?.[0]?.what ?? "";
    case "doer":
      return l.doers?.[0]?.what ?? "";
    default:
      return "";
  }
}

/** One row of the list: a heading with the findings under it, or a line. */
export type Row = { heading: string; count: number } | { line: Line };

/** Lines under headings, those over most findings first; without, as they are. */
export function rowsOf(lines: readonly Line[], under: string): Row[] {
  if (under === "") return lines.map((line) => ({ line }));
  const by = new Map<string, Line[]>();
  for (const l of lines) {
    const heading = headingOf(l, under);
    const list = by.get(heading);
    if (list) list.push(l);
    else by.set(heading, [l]);
  }
  const count = (list: readonly Line[]) => list.reduce((n, l) => n + l.count, 0);
  return [...by]
    .toSorted(([a, x], [b, y]) => Number(a === "") - Number(b === "") || count(y) - count(x))
    .flatMap(([heading, list]) => [{ heading, count: count(list) }, ...list.map((line) => ({ line }))]);
}

/** What the findings come to, in a sentence for somebody who does not read them one by one. */
export function summary(groups: readonly Group[]): string {
  const open = groups.filter((g) => !g.waiver);
  const sum = (fits: (g: Group) => boolean, of = (g: Group) => g.count) =>
    open.reduce((n, g) => n + (fits(g) ? of(g) : 0), 0);
  const all = sum(() => true);
  if (all === 0) return "Nothing is open.";
  const say = (n: number, one: string, more: string) =>
    n > 0 ? [n === 1 ? `1 ${one}` : `${n.toLocaleString()} ${more}`] : [];
  const opens = (g: Group) => g.word === "opens" || g.word === "both";
  const everyone = (g: Group) => opens(g) && parties(g).includes("everyone");
  const closes = (g: Group) => g.word === "closes";
  const grave = (g: Group) => g.severity === "grave";
  const any = () => true;
  const fresh = (g: Group) => g.fresh ?? 0;
  const returned = (g: Group) => g.returned ?? 0;
  const parts = [
    ...say(sum(opens), "lets somebody do more than intended", "let somebody do more than intended"),
    ...say(sum(everyone), "of these everyone", "of these everyone"),
    ...say(sum(closes), "keeps somebody from what they need", "keep somebody from what they need"),
    ...say(sum(grave), "is grave", "are grave"),
    ...say(sum(any, fresh), "is new", "are new"),
    ...say(sum(any, returned), "came back", "came back"),
  ];
  const hosts = new Set(open.flatMap((g) => ("parts" in g ? (g as Line).parts : [g])).map((g) => g.host)).size;
  const on = hosts > 1 ? ` on ${hosts.toLocaleString()} hosts` : "";
  const head = `${all === 1 ? "1 finding" : `${all.toLocaleString()} findings`}${on}`;
  return `${head}${parts.length > 0 ? `: ${parts.join("; ")}` : ""}.`;
}
