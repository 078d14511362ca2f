import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, body, type Schemas } from "./client";
import { keys } from "./keys";

const v1 = "/api/v1" as const;

/** Where something is looked up: a host as it is now, or a stored snapshot. */
export interface Where {
  host?: string;
  snapshot?: string;
}

/** What is supposed beside what is: an edition, a plan, a group joined. */
export interface Supposed {
  joining?: string[];
  edition?: string;
  plan?: string;
}

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

/** The folder that a path lies in; escaped names hold no slash. */
export const folderOf = (path: string) => path.slice(0, Math.max(path.lastIndexOf("/"), 1));

const asked = (w: Where) => Boolean(w.host ?? w.snapshot);

export const useSight = (where: Where, path: string) =>
  useQuery({
    queryKey: keys.sight(where, path),
    enabled: asked(where) && path !== "",
    queryFn: () => body(api.GET(`${v1}/path`, { params: { query: { ...where, path } } })),
  });

export const useListing = (where: Where, path: string, account: string, enabled: boolean) =>
  useInfiniteQuery({
    queryKey: keys.listing(where, path, account),
    enabled: enabled && asked(where),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/paths`, {
          params: {
            query: {
              ...where,
              path,
              limit: 1000,
              ...(account ? { account } : {}),
              ...(pageParam ? { after: pageParam } : {}),
            },
          },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });

export const useMatrix = (where: Where, path: string, { edition, plan }: Supposed, enabled: boolean) =>
  useQuery({
    queryKey: keys.matrix(where, path, edition, plan),
    enabled,
    queryFn: () =>
      body(
        api.GET(`${v1}/access/matrix`, {
          params: { query: { ...where, path, ...(edition ? { edition } : {}), ...(plan ? { plan } : {}) } },
        }),
      ),
  });

export const useHolders = (
  where: Where,
  path: string,
  operation: string,
  { edition, plan }: Supposed,
  enabled: boolean,
) =>
  useQuery({
    queryKey: keys.holders(where, path, operation, edition, plan),
    enabled,
    queryFn: () =>
      body(
        api.GET(`${v1}/access/holders`, {
          params: { query: { ...where, path, operation, ...(edition ? { edition } : {}), ...(plan ? { plan } : {}) } },
        }),
      ),
  });

export const useDecide = (where: Where, path: string, account: string, supposed: Supposed, enabled: boolean) =>
  useQuery({
    queryKey: keys.decide(where, path, account, supposed),
    enabled: enabled && account !== "",
    queryFn: () => body(api.GET(`${v1}/access`, { params: { query: { ...where, path, account, ...supposed } } })),
  });

export const useBelow = (
  where: Where,
  path: string,
  account: string,
  operation: string,
  behind: boolean,
  supposed: Supposed,
) =>
  useQuery({
    queryKey: keys.below(where, path, account, operation, behind, supposed),
    queryFn: () =>
      body(
        api.GET(`${v1}/access/below`, {
          params: {
            query: { ...where, path, account, operation, limit: 0, ...(behind ? { behind } : {}), ...supposed },
          },
        }),
      ),
  });

/** The declared mode among findings, if one is of that: so that the cells that differ are ringed. */
export const declaredMode = (findings: readonly Schemas["PathFinding"][] | null | undefined) =>
  findings?.find((f) => f.aspect === "mode" && /^[0-7]{4}$/.test(f.declared))?.declared;

/** How much of each entry of a folder somebody holds; without a path, of each root. */
export const useWeights = (where: Where, path: string, account: string, operation: string) =>
  useQuery({
    queryKey: keys.weights(where, path, account, operation),
    staleTime: 60_000,
    queryFn: () =>
      body(
        api.GET(`${v1}/access/below`, {
          params: { query: { ...where, ...(path ? { path } : {}), account, operation, limit: 0, weigh: true } },
        }),
      ),
  });

export const useFresh = (where: Where, path: string, account: string, umask: string) =>
  useQuery({
    queryKey: keys.fresh(where, path, account, umask),
    enabled: account !== "" && account !== "everyone" && umask !== "",
    queryFn: () => body(api.GET(`${v1}/paths/new`, { params: { query: { ...where, path, account, umask } } })),
  });

export const useProbe = () =>
  useMutation({ mutationFn: (ask: Schemas["ProbeAsk"]) => body(api.POST(`${v1}/access/probe`, { body: ask })) });

export const useAccounts = (where: Where) =>
  useQuery({
    queryKey: keys.accounts(where),
    enabled: asked(where),
    staleTime: 60_000,
    queryFn: () => body(api.GET(`${v1}/accounts`, { params: { query: where } })),
  });

export const useAccount = (where: Where, name: string) =>
  useQuery({
    queryKey: keys.account(where, name),
    enabled: asked(where) && name !== "",
    queryFn: () => body(api.GET(`${v1}/accounts/{name}`, { params: { path: { name }, query: where } })),
  });

/** The flags that make a command ask where the page asks. */
export const flagsOf = (w: Where) => (w.host ? `--host ${w.host}` : `--snapshot ${w.snapshot}`);

/** A word as a shell takes it. */
export const quoted = (s: string) => (/^[\w./-]+$/.test(s) ? s : `'${s.replaceAll("'", String.raw`'\''`)}'`);
