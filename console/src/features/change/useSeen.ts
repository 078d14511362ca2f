import { useMemo } from "react";
import { useAccounts, useSight } from "../look/queries";
import { useSnapshotsOf } from "../snapshots/queries";

/** A path as its host shows it now, or, until it answers, as it was seen last; and the host's names. */
export function useSeen(host: string, path: string, application: string) {
  const now = useMemo(() => ({ host }), [host]);
  const live = useSight(now, path);
  const snapshots = useSnapshotsOf({ host }).data?.items;
  const last = snapshots?.find((s) => s.state === "ready" && s.application === application)?.id;
  const then = useMemo(() => (last ? { snapshot: last } : {}), [last]);
  const old = useSight(then, path);
  const names = useAccounts(now).data;
  return {
    sight: live.data ?? old.data,
    late: !live.data && old.data !== undefined, // the host has not answered yet
    error: live.data || old.data ? null : live.error,
    accounts: names?.accounts ?? [],
    groups: names?.groups ?? [],
  };
}
