import { useHosts } from "../../api/queries";
import { useSnapshot, useSnapshots, useSnapshotsOf } from "../snapshots/queries";
import { hostMeant, placesOf, type Place, type Where } from "./model";

/** What may be looked at: all hosts, the newest snapshots, and older ones of the host that is looked at or typed. */
export function useAllPlaces(where: Where, text: string): Place[] {
  const hosts = (useHosts().data?.items ?? []).filter((h) => h.enrolled).map((h) => h.name);
  const newest = useSnapshots().data?.items ?? [];
  const current = useSnapshot(where.snapshot ?? "").data;
  const host = hostMeant(hosts, text) ?? where.host ?? current?.host ?? "";
  const older = useSnapshotsOf({ host }).data?.items ?? [];
  return placesOf(hosts, [...newest, ...older, ...(current ? [current] : [])]);
}
