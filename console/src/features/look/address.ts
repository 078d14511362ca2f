import { useSearchParams } from "react-router";
import type { Supposed, Where } from "./model";

/** Everything that the address of a look says. */
export function useLook() {
  const [search, setSearch] = useSearchParams();
  const get = (name: string) => search.get(name) ?? "";
  const host = get("host");
  const snapshot = get("snapshot");
  const [kind, what] = splitOnce(get("suppose"));
  const joining = get("joining");
  const address = (changes: Record<string, string>) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    return `/look?${next.toString()}`;
  };
  const supposed: Supposed = {
    ...(kind === "edition" ? { edition: what } : {}),
    ...(kind === "plan" ? { plan: what } : {}),
    ...(joining ? { joining: [joining] } : {}),
  };
  return {
    where: { ...(host ? { host } : {}), ...(snapshot && !host ? { snapshot } : {}) } satisfies Where,
    path: get("path"),
    account: get("for"),
    tab: get("tab"),
    row: get("row"),
    operation: get("operation"),
    suppose: get("suppose"),
    joining,
    supposed,
    address,
    set: (changes: Record<string, string>) => setSearch(address(changes).slice("/look?".length), { replace: true }),
  };
}

export type Look = ReturnType<typeof useLook>;

function splitOnce(s: string): [string, string] {
  const i = s.indexOf(":");
  return i < 0 ? ["", ""] : [s.slice(0, i), s.slice(i + 1)];
}
