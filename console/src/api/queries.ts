import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, body, Problem } from "./client";
import { whole } from "./pages";
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
