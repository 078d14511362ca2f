import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, body } from "../../api/client";
import { whole } from "../../api/pages";
import { keys } from "../../api/keys";
import { useChange } from "../../api/queries";

const v1 = "/api/v1" as const;

export const useRun = (id: string) =>
  useQuery({ queryKey: keys.run(id), queryFn: () => body(api.GET(`${v1}/runs/{id}`, { params: { path: { id } } })) });

export const useRuns = () =>
  useInfiniteQuery({
    queryKey: keys.runs(),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(api.GET(`${v1}/runs`, { params: { query: pageParam ? { after: pageParam } : {} } })),
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });

export const useResults = (id: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.results(id),
    enabled,
    queryFn: () =>
      whole(
        (after) =>
          body(
            api.GET(`${v1}/runs/{id}/results`, {
              params: { path: { id }, query: { limit: 1000, ...(after ? { after } : {}) } },
            }),
          ),
        2000,
      ),
  });

export const useOriginals = (run: string, host: string, paths: string) =>
  useInfiniteQuery({
    queryKey: keys.originals(run, host, paths),
    enabled: host !== "",
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/runs/{id}/originals`, {
          params: { path: { id: run }, query: { host, paths: paths || undefined, after: pageParam } },
        }),
      ),
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
    retry: false,
  });

export const useHalt = (id: string) =>
  useChange(() => body(api.POST(`${v1}/runs/{id}/halt`, { params: { path: { id } } })));

export const useResume = (id: string) =>
  useChange(() => body(api.POST(`${v1}/runs/{id}/resume`, { params: { path: { id } } })));
