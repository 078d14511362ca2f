import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { whole } from "../../api/pages";
import { keys } from "../../api/keys";
import { useChange } from "../../api/queries";

const v1 = "/api/v1" as const;

/** The newest reports with their groups, of all hosts or of one. */
export const useDrift = (application: string, host = "", enabled = true) =>
  useQuery({
    queryKey: keys.drift(application, host),
    enabled,
    queryFn: () => body(api.GET(`${v1}/drift`, { params: { query: { application, ...(host ? { host } : {}) } } })),
    refetchInterval: 15_000,
  });

/** Groups of findings, equal ones of all hosts as one. */
export const useEqual = (application: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.drift(application, "equal"),
    enabled,
    queryFn: () => body(api.GET(`${v1}/drift/equal`, { params: { query: { application } } })),
    refetchInterval: 30_000,
  });

export const useFindings = (report: string, group: string) =>
  useInfiniteQuery({
    queryKey: keys.findings(report, group),
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/reports/{id}/findings`, {
          params: { path: { id: report }, query: { group, after: pageParam, limit: 200 } },
        }),
      ),
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
  });

export const usePlaces = (report: string, path: string, enabled = true) =>
  useQuery({
    queryKey: keys.places(report, path),
    enabled: enabled && report !== "",
    queryFn: () => body(api.GET(`${v1}/reports/{id}/places`, { params: { path: { id: report }, query: { path } } })),
  });

export const useFindingsUnder = (report: string, under: string) =>
  useInfiniteQuery({
    queryKey: keys.findingsUnder(report, under),
    enabled: report !== "" && under !== "",
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/reports/{id}/findings`, {
          params: { path: { id: report }, query: { under, after: pageParam, limit: 100 } },
        }),
      ),
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
  });

export const useTrend = (application: string, days: number) =>
  useQuery({
    queryKey: keys.trend(application, days),
    queryFn: () => body(api.GET(`${v1}/drift/trend`, { params: { query: { application, days } } })),
  });

export const useCauses = (application: string) =>
  useQuery({
    queryKey: keys.causes(application),
    queryFn: () =>
      whole((after) =>
        body(
          api.GET(`${v1}/drift/causes`, {
            params: { query: { application, limit: 2000, ...(after ? { after } : {}) } },
          }),
        ),
      ),
  });

export const useWaivers = (application: string, all: boolean) =>
  useQuery({
    queryKey: keys.waivers(application, all),
    queryFn: () =>
      whole((after) =>
        body(
          api.GET(`${v1}/waivers`, {
            params: { query: { application, all, limit: 2000, ...(after ? { after } : {}) } },
          }),
        ),
      ),
  });

export const useWaive = () =>
  useChange((input: Schemas["NewWaiver"]) => body(api.POST(`${v1}/waivers`, { body: input })));

export const useWithdraw = () =>
  useChange((id: string) => body(api.POST(`${v1}/waivers/{id}/withdraw`, { params: { path: { id } } })));
