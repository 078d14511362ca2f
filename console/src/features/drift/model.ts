import type { Finding, Group, Report, Schemas } from "../../api/client";

/** Equal findings as the group of each host that has them. */
export const byHost = (e: Schemas["EqualGroup"]) =>
  (e.members ?? []).map((m) => ({ ...e, host: m.host, report: m.report, count: m.count }));

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
  who: string; // gains or loses by it
  sort: string;
}

/** What an address says of it. */
export function sieveOf(search: URLSearchParams): Sieve {
  const get = (name: string) => search.get(name) ?? "";
  return {
    effect: get("effect"),
    severity: get("severity"),
    rule: get("rule"),
    aspect: get("aspect"),
    age: get("age"),
    who: get("who"),
    sort: get("sort"),
  };
}

export type Facet = Exclude<keyof Sieve, "sort">;

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

/** The values that a group has of a facet. */
function valuesOf(g: Group, facet: Facet): readonly string[] {
  switch (facet) {
    case "effect":
      return g.word === "both" ? ["opens", "closes", "both"] : [g.word];
    case "age":
      return [...(g.fresh ? ["new"] : []), ...(g.returned ? ["returned"] : [])];
    case "who":
      return parties(g);
    default:
      return [g[facet]];
  }
}

const passes = (g: Group, s: Sieve, but?: Facet) =>
  (["effect", "severity", "rule", "aspect", "age", "who"] as const).every(
    (f) => f === but || s[f] === "" || valuesOf(g, f).includes(s[f]),
  );

const orders: Record<string, (a: Group, b: Group) => number> = {
  count: (a, b) => b.count - a.count,
  severity: (a, b) => ranks.indexOf(a.severity) - ranks.indexOf(b.severity),
  newest: (a, b) => (b.since ?? "").localeCompare(a.since ?? ""),
  rule: (a, b) => a.rule.localeCompare(b.rule),
  folder: (a, b) => a.folder.localeCompare(b.folder),
};

/** The groups that are looked at, in their order. What is accepted for a time stands apart, at the end. */
export const sieved = (groups: readonly Group[], s: Sieve): Group[] =>
  groups
    .filter((g) => passes(g, s))
    .toSorted((a, b) => Number(Boolean(a.waiver)) - Number(Boolean(b.waiver)) || (orders[s.sort]?.(a, b) ?? 0));

/** The values of a facet that are there beside what else is chosen, with how many findings have each, most first. */
export function choices(groups: readonly Group[], s: Sieve, facet: Facet): { value: string; count: number }[] {
  const counts = new Map<string, number>();
  for (const g of groups)
    if (!g.waiver && passes(g, s, facet))
      for (const v of new Set(valuesOf(g, facet)))
        if (v !== "both") counts.set(v, (counts.get(v) ?? 0) + findingsOf(g, facet, v));
  return [...counts].map(([value, count]) => ({ value, count })).toSorted((a, b) => b.count - a.count);
}

/** How many findings of a group have a value: of their age some have one, and others not. */
const findingsOf = (g: Group, facet: Facet, value: string) =>
  facet !== "age" ? g.count : ((value === "new" ? g.fresh : g.returned) ?? 0);

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
  const head = all === 1 ? "1 finding" : `${all.toLocaleString()} findings`;
  return `${head}${parts.length > 0 ? `: ${parts.join("; ")}` : ""}.`;
}
