import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useChange } from "../../api/queries";

const v1 = "/api/v1" as const;

/** What a host looks like otherwise than in an older snapshot. */
export const useTurnover = (from: string, to: string) =>
  useQuery({
    queryKey: keys.turnover(from, to),
    enabled: from !== "" && to !== "",
    queryFn: () =>
      body(api.GET(`${v1}/snapshots/{id}/changes`, { params: { path: { id: to }, query: { from, limit: 100 } } })),
  });

export const useSnapshots = () =>
  useQuery({ queryKey: keys.snapshots(), queryFn: () => body(api.GET(`${v1}/snapshots`)), refetchInterval: 10_000 });

/** The newest snapshots of an application or a host. */
export const useSnapshotsOf = (query: { application?: string; host?: string }, limit = 200) =>
  useQuery({
    queryKey: keys.snapshots(query, limit),
    enabled: Boolean(query.application || query.host),
    queryFn: () => body(api.GET(`${v1}/snapshots`, { params: { query: { ...query, limit } } })),
  });

/** Snapshots of an application, of a host, or all, page by page. */
export const useSnapshotPages = (application: string, host: string) =>
  useInfiniteQuery({
    queryKey: keys.snapshots("pages", application, host),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/snapshots`, {
          params: {
            query: {
              ...(application ? { application } : {}),
              ...(host ? { host } : {}),
              ...(pageParam ? { after: pageParam } : {}),
            },
          },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });

export const useSnapshot = (id: string) =>
  useQuery({
    queryKey: keys.snapshot(id),
    enabled: id !== "",
    queryFn: () => body(api.GET(`${v1}/snapshots/{id}`, { params: { path: { id } } })),
  });

export const useTakeSnapshot = () =>
  useChange((input: Schemas["NewSnapshot"]) => body(api.POST(`${v1}/snapshots`, { body: input })));
