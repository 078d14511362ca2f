import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import type { PlanState } from "./model";
import { useChange } from "../../api/queries";

const v1 = "/api/v1" as const;

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

export const useDraft = () => useChange((input: Schemas["Draft"]) => body(api.POST(`${v1}/plans`, { body: input })));

export const useSubmit = (id: string) =>
  useChange((input: Schemas["Submission"]) =>
    body(api.POST(`${v1}/plans/{id}/submit`, { params: { path: { id } }, body: input })),
  );

/** Asks for the text that somebody is to sign of a plan. It is asked for once: what is read is what is signed. */
export const useStatement = (id: string) =>
  useMutation({
    mutationFn: (wanted: Schemas["WantedStatement"]) =>
      body(api.POST(`${v1}/plans/{id}/statement`, { params: { path: { id } }, body: wanted })),
  });

/** How somebody decides on a plan: alone is without anybody else, where the roster lets them. */
export type Verdict = "approve" | "alone" | "decline";

export const useDecide = (id: string) =>
  useChange(({ verdict, ...decision }: Schemas["Decision"] & { verdict: Verdict }) => {
    const call = { params: { path: { id } }, body: decision };
    if (verdict === "approve") return body(api.POST(`${v1}/plans/{id}/approve`, call));
    if (verdict === "alone") return body(api.POST(`${v1}/plans/{id}/alone`, call));
    return body(api.POST(`${v1}/plans/{id}/decline`, call));
  });

export const useWithdrawPlan = (id: string) =>
  useChange(() => body(api.POST(`${v1}/plans/{id}/withdraw`, { params: { path: { id } } })));

export const useRemark = (id: string) =>
  useChange((input: Schemas["NewRemark"]) =>
    body(api.POST(`${v1}/plans/{id}/remarks`, { params: { path: { id } }, body: input })),
  );

export const useStart = (id: string) =>
  useChange(() => body(api.POST(`${v1}/plans/{id}/run`, { params: { path: { id } } })));
