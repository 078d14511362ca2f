import { useState } from "react";
import type { Finding, Group, Report } from "../../api/client";

/** A finding by itself, as it was when it was chosen. */
export type Single = { host: string; report: string; seq: number; path: string; aspect: string; group: string };

type Content = { groups: readonly string[]; singles: readonly Single[] };

/** What was chosen to be mended, kept while one looks around in this window. */
export type Basket = {
  groups: readonly Group[];
  singles: readonly Single[];
  findings: number;
  hasGroup: (g: Group) => boolean;
  putGroups: (groups: readonly Group[], on: boolean) => void;
  hasSingle: (f: Finding, host: string) => boolean;
  putSingle: (f: Finding, host: string, on: boolean) => void;
  drop: (s: Single) => void;
  empty: () => void;
};

const groupKey = (g: Group) => `${g.host}/${g.id}`;
const singleKey = (s: { host: string; path: string; aspect: string }) => `${s.host}/${s.aspect}${s.path}`;

function kept(name: string): Content {
  try {
    return { groups: [], singles: [], ...(JSON.parse(sessionStorage.getItem(name) ?? "{}") as Partial<Content>) };
  } catch {
    return { groups: [], singles: [] };
  }
}

/** The basket of an application. Groups keep their ids from report to report; what was mended leaves the basket. */
export function useBasket(application: string, groups: readonly Group[]): Basket {
  const name = `basket ${application}`;
  const [state, setState] = useState({ name, content: kept(name) });
  const content = state.name === name ? state.content : kept(name);
  const set = (next: Content) => {
    sessionStorage.setItem(name, JSON.stringify(next));
    setState({ name, content: next });
  };
  const chosen = new Set(content.groups);
  const whole = groups.filter((g) => chosen.has(groupKey(g)));
  const inWhole = new Set(whole.map((g) => `${g.host}/${g.id}`));
  const singles = content.singles.filter((s) => !inWhole.has(`${s.host}/${s.group}`));
  const single = new Set(singles.map(singleKey));
  return {
    groups: whole,
    singles,
    findings: whole.reduce((n, g) => n + g.count, 0) + singles.length,
    hasGroup: (g) => chosen.has(groupKey(g)),
    putGroups: (list, on) => {
      const keys = new Set(list.map(groupKey));
      set({
        singles: content.singles,
        groups: on ? [...new Set([...content.groups, ...keys])] : content.groups.filter((k) => !keys.has(k)),
      });
    },
    hasSingle: (f, host) => single.has(singleKey({ host, path: f.path, aspect: f.aspect })),
    putSingle: (f, host, on) => {
      const s = { host, report: f.report, seq: f.seq, path: f.path, aspect: f.aspect, group: f.group };
      const others = content.singles.filter((x) => singleKey(x) !== singleKey(s));
      set({ groups: content.groups, singles: on ? [...others, s] : others });
    },
    drop: (s) => set({ groups: content.groups, singles: content.singles.filter((x) => singleKey(x) !== singleKey(s)) }),
    empty: () => set({ groups: [], singles: [] }),
  };
}

/** The newest report of a host, where it is another one than a finding was chosen from. */
export const later = (s: Single, reports: readonly Report[]) =>
  reports.find((r) => r.host === s.host && r.id !== s.report);
