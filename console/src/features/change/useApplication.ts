import type { Person } from "../../api/client";
import { may } from "../../shared/roles";
import { useOverview } from "../overview/queries";
import { useSnapshotsOf } from "../snapshots/queries";
import { applicationOf } from "./model";

/**
 * The application of some paths on a host, as chosen, or as the host's snapshots say; and those of the host of which
 * somebody may draft plans.
 */
export function useApplication(host: string, paths: readonly string[], chosen: string, me: Person) {
  const mine = (useOverview(host).data?.applications ?? [])
    .filter((a) => a.cells?.some((c) => c.host === host) && may(me, "author", a.name))
    .map((a) => a.name);
  const snapshots = useSnapshotsOf({ host }).data?.items ?? [];
  const application = chosen || applicationOf(snapshots, paths) || mine[0] || "";
  return { application, mine };
}
