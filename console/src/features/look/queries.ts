import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import type { Where, Supposed } from "./model";

const v1 = "/api/v1" as const;

const asked = (w: Where) => Boolean(w.host ?? w.snapshot);

export const useSight = (where: Where, path: string) =>
  useQuery({
    queryKey: keys.sight(where, path),
    enabled: asked(where) && path !== "",
    queryFn: () => body(api.GET(`${v1}/path`, { params: { query: { ...where, path } } })),
  });

/** What a path was in the snapshots of its host, of older ones page by page. */
export const usePathTimes = (host: string, path: string) =>
  useInfiniteQuery({
    queryKey: keys.pathTimes(host, path),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/paths/times`, {
          params: { query: { host, path, ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });

/** The newest run that changed a path, if any of the newest runs on its host did. */
export const useLastRun = (host: string, path: string) =>
  useQuery({
    queryKey: keys.pathTimes(host, path, "runs"),
    enabled: host !== "",
    staleTime: 60_000,
    queryFn: () => body(api.GET(`${v1}/paths/times`, { params: { query: { host, path, limit: 1 } } })),
  }).data?.runs?.[0];

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

/** What it would take that an account can do something. */
export const useProposals = (where: Where, path: string, account: string, operation: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.proposals(where, path, account, operation),
    enabled,
    queryFn: () =>
      body(api.GET(`${v1}/access/proposals`, { params: { query: { ...where, path, account, operation } } })),
  });

/** What has to be taken away so that nobody but some accounts can do something. */
export const useRestriction = (
  where: Where,
  path: string,
  only: readonly string[],
  operation: string,
  enabled: boolean,
) =>
  useQuery({
    queryKey: keys.restriction(where, path, only, operation),
    enabled,
    queryFn: () =>
      body(
        api.GET(`${v1}/access/restriction`, {
          params: { query: { ...where, path, operation, ...(only.length > 0 ? { only: [...only] } : {}) } },
        }),
      ),
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
