import { useState } from "react";
import type { Finding, Group } from "../../api/client";
import { chosenOf, groupKey, singleKey, withGroups, withSingle, without, type Content, type Single } from "./model";

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
  const chosen = chosenOf(content, groups);
  const has = new Set(content.groups);
  const single = new Set(chosen.singles.map(singleKey));
  return {
    ...chosen,
    hasGroup: (g) => has.has(groupKey(g)),
    putGroups: (list, on) => set(withGroups(content, list, on)),
    hasSingle: (f, host) => single.has(singleKey({ host, path: f.path, aspect: f.aspect })),
    putSingle: (f, host, on) => set(withSingle(content, f, host, on)),
    drop: (s) => set(without(content, s)),
    empty: () => set({ groups: [], singles: [] }),
  };
}
