import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, body, type Plan, Problem, type Schemas } from "./client";
import { whole } from "./pages";
import { showPasskey } from "./passkeys";
import { keys } from "./keys";

const v1 = "/api/v1" as const;

export const useMe = () =>
  useQuery({ queryKey: keys.me(), queryFn: () => body(api.GET(`${v1}/me`)), retry: false, staleTime: 60_000 });

export const useApplications = () =>
  useQuery({
    queryKey: keys.applications(),
    queryFn: () => body(api.GET(`${v1}/applications`)),
    refetchInterval: 10_000,
  });

export const useHosts = () =>
  useQuery({
    queryKey: keys.hosts(),
    queryFn: () =>
      whole((after) =>
        body(api.GET(`${v1}/hosts`, { params: { query: { limit: 1000, ...(after ? { after } : {}) } } })),
      ),
    refetchInterval: (q) => ((q.state.data?.total ?? 0) > 1000 ? 60_000 : 10_000),
  });

/** The newest reports with their groups, of all hosts or of one. */
export const useDrift = (application: string, host = "", enabled = true) =>
  useQuery({
    queryKey: keys.drift(application, host),
    enabled,
    queryFn: () => body(api.GET(`${v1}/drift`, { params: { query: { application, ...(host ? { host } : {}) } } })),
    refetchInterval: 15_000,
  });

/** Equal findings as the group of each host that has them. */
export const byHost = (e: Schemas["EqualGroup"]) =>
  (e.members ?? []).map((m) => ({ ...e, host: m.host, report: m.report, count: m.count }));

/** Groups of findings, equal ones of all hosts as one. */
export const useEqual = (application: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.drift(application, "equal"),
    enabled,
    queryFn: () => body(api.GET(`${v1}/drift/equal`, { params: { query: { application } } })),
    refetchInterval: 30_000,
  });

export const useFindings = (report: string, group: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.findings(report, group),
    enabled,
    queryFn: () =>
      body(api.GET(`${v1}/reports/{id}/findings`, { params: { path: { id: report }, query: { group, limit: 500 } } })),
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

/** A state that plans are kept in; one that was approved too long ago is only shown as expired. */
export type PlanState = Exclude<Plan["state"], "expired">;

// A record, so that the compiler wants each state that the service has.
const placeOf: Record<PlanState, number> = {
  draft: 0,
  "in review": 1,
  approved: 2,
  declined: 3,
  running: 4,
  halted: 5,
  finished: 6,
};

/** The states of plans, in their order. */
export const planStates = (Object.keys(placeOf) as PlanState[]).sort((a, b) => placeOf[a] - placeOf[b]);

export const usePlans = (state?: PlanState) =>
  useInfiniteQuery({
    queryKey: keys.plans(state),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/plans`, {
          params: { query: { ...(state ? { state } : {}), ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });

export const usePlan = (id: string) =>
  useQuery({ queryKey: keys.plan(id), queryFn: () => body(api.GET(`${v1}/plans/{id}`, { params: { path: { id } } })) });

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

/** A plan's steps on a host, chunk by chunk: nobody says beforehand how many steps come, but how many there are. */
export const useSteps = (plan: string, host: string, steps: number) =>
  useInfiniteQuery({
    queryKey: keys.steps(plan, host),
    enabled: host !== "",
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      body(api.GET(`${v1}/plans/{id}/steps`, { params: { path: { id: plan }, query: { host, chunk: pageParam } } })),
    getNextPageParam: (_, pages) =>
      pages.reduce((n, p) => n + (p.items?.length ?? 0), 0) < steps ? pages.length : undefined,
  });

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
    queryFn: () => body(api.GET(`${v1}/snapshots/{id}`, { params: { path: { id } } })),
  });

/** A change: afterwards everything shown is asked for again. */
export function useChange<In, Out>(call: (input: In) => Promise<Out>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: call,
    onSuccess: () => client.invalidateQueries(),
    onError: (e) => {
      // Somebody else changed it meanwhile: what is shown is out of date.
      if (e instanceof Problem && (e.status === 409 || e.status === 412)) void client.invalidateQueries();
    },
  });
}

export const useWays = () =>
  useQuery({ queryKey: keys.ways(), queryFn: () => body(api.GET("/api/v1/sign-in/ways")), staleTime: Infinity });
/** How well a new password withstands who guesses; what was typed is not kept once nobody shows it. */
export const useStrength = (name: string, password: string) =>
  useQuery({
    queryKey: keys.strength(name, password),
    queryFn: () => body(api.POST(`${v1}/calculate/password`, { body: { name, password } })),
    enabled: password !== "",
    gcTime: 0,
    retry: false,
    placeholderData: keepPreviousData,
  });
export const useSignIn = () =>
  useChange((input: Schemas["SignIn"]) => body(api.POST(`${v1}/sign-in`, { body: input })));
export const useSignInByPasskey = () =>
  useChange(async (input: { name?: string; password?: string }) => {
    const passkey = await showPasskey(await body(api.POST(`${v1}/sign-in/passkey`, { body: input })));
    return body(api.POST(`${v1}/sign-in`, { body: { name: "", password: "", ...input, passkey } }));
  });
export const useSignOut = () => useChange(() => body(api.POST(`${v1}/sign-out`)));
export const useTakeSnapshot = () =>
  useChange((input: Schemas["NewSnapshot"]) => body(api.POST(`${v1}/snapshots`, { body: input })));
export const useWaive = () =>
  useChange((input: Schemas["NewWaiver"]) => body(api.POST(`${v1}/waivers`, { body: input })));
export const useWithdraw = () =>
  useChange((id: string) => body(api.POST(`${v1}/waivers/{id}/withdraw`, { params: { path: { id } } })));
export const useDraft = () => useChange((input: Schemas["Draft"]) => body(api.POST(`${v1}/plans`, { body: input })));
export const useSubmit = (id: string) =>
  useChange(() => body(api.POST(`${v1}/plans/{id}/submit`, { params: { path: { id } } })));
export const useDecide = (id: string) =>
  useChange(({ approve, ...decision }: Schemas["Decision"] & { approve: boolean }) =>
    approve
      ? body(api.POST(`${v1}/plans/{id}/approve`, { params: { path: { id } }, body: decision }))
      : body(api.POST(`${v1}/plans/{id}/decline`, { params: { path: { id } }, body: decision })),
  );
export const useWithdrawPlan = (id: string) =>
  useChange(() => body(api.POST(`${v1}/plans/{id}/withdraw`, { params: { path: { id } } })));
export const useRemark = (id: string) =>
  useChange((input: Schemas["NewRemark"]) =>
    body(api.POST(`${v1}/plans/{id}/remarks`, { params: { path: { id } }, body: input })),
  );
export const useStart = (id: string) =>
  useChange(() => body(api.POST(`${v1}/plans/{id}/run`, { params: { path: { id } } })));
export const useHalt = (id: string) =>
  useChange(() => body(api.POST(`${v1}/runs/{id}/halt`, { params: { path: { id } } })));
export const useResume = (id: string) =>
  useChange(() => body(api.POST(`${v1}/runs/{id}/resume`, { params: { path: { id } } })));
