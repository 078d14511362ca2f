import type { Schemas } from "../api/client";

export type Hit = Schemas["Hit"];

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
