import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Schemas } from "./client";
import type { Kept } from "./keys";

type Happening = Schemas["Happening"];

/** What shows something of each kind, by the first word of its query. */
const shows: Record<Happening["kind"], readonly Kept[] | null> = {
  begin: null, // whatever was missed: everything
  snapshot: [
    "overview",
    "applications",
    "drift",
    "snapshots",
    "snapshot",
    "trend",
    "causes",
    "hosts",
    "foreseen",
    "pathTimes",
  ],
  edition: ["overview", "applications", "editions", "edition", "drift", "sight", "listing", "foreseen"],
  plan: ["overview", "plans", "plan", "history"],
  run: ["overview", "history", "runs", "run", "results", "plans", "plan", "pathTimes"],
};

/** Asks again for what is shown when the service says that it is another now. */
export function useLive() {
  const client = useQueryClient();
  useEffect(() => {
    const stream = new EventSource("/api/v1/happenings");
    stream.onmessage = (event: MessageEvent<string>) => {
      const kinds = shows[(JSON.parse(event.data) as Happening).kind];
      void client.invalidateQueries(kinds ? { predicate: (q) => kinds.some((k) => k === q.queryKey[0]) } : undefined);
    };
    return () => stream.close();
  }, [client]);
}
