import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "./client";
import { keys } from "./keys";

const v1 = "/api/v1" as const;

export type Hit = Schemas["Hit"];

export const useSearch = (text: string, enabled = true) =>
  useQuery({
    queryKey: keys.search(text),
    enabled: enabled && text.trim() !== "",
    staleTime: 10_000,
    placeholderData: (before) => before,
    queryFn: () => body(api.GET(`${v1}/search`, { params: { query: { q: text.trim() } } })),
  });

/** The page where what was found is looked at. */
export function addressOf(h: Hit): string {
  const q = (o: Record<string, string | undefined>) =>
    new URLSearchParams(Object.entries(o).filter((e): e is [string, string] => Boolean(e[1]))).toString();
  switch (h.kind) {
    case "host":
      return `/hosts/${h.subject}`;
    case "application":
      return `/drift/${h.subject}`;
    case "finding":
      return `/drift/${h.subject}?${q({ host: h.host })}`;
    case "rule":
      return `/baselines/${h.application}/edit`;
    case "account":
      return `/accounts/${encodeURIComponent(h.subject)}?${q({ snapshot: h.snapshot })}`;
    case "plan":
      return `/plans/${h.subject}`;
    case "run":
      return `/runs/${h.subject}`;
    case "path":
      return `/look?${q({ snapshot: h.snapshot, path: h.subject })}`;
    case "person":
      return "/settings?tab=people";
  }
}

/** How everything stands; of one host, each application's cell of it. */
export const useOverview = (host = "") =>
  useQuery({
    queryKey: keys.overview(host),
    queryFn: () => body(api.GET(`${v1}/overview`, { params: { query: host ? { host } : {} } })),
    refetchInterval: 30_000,
  });

export interface Past {
  who: string;
  what: string;
  subject: string;
  from: string;
  to: string;
}

/** What of a past is said, as the service is asked: days are the viewer's. */
export function pastQuery(p: Past) {
  const day = (d: string, plus: number) => {
    const at = new Date(`${d}T00:00:00`);
    at.setDate(at.getDate() + plus);
    return at.toISOString();
  };
  return {
    ...(p.who ? { who: p.who } : {}),
    ...(p.what ? { what: p.what } : {}),
    ...(p.subject ? { subject: p.subject } : {}),
    ...(p.from ? { from: day(p.from, 0) } : {}),
    ...(p.to ? { to: day(p.to, 1) } : {}),
  };
}

export const useHistory = (p: Past) =>
  useInfiniteQuery({
    queryKey: keys.history(p),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/history`, {
          params: { query: { ...pastQuery(p), limit: 200, ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });
