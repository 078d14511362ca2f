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
