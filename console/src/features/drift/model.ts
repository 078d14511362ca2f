import type { Schemas } from "../../api/client";

/** Equal findings as the group of each host that has them. */
export const byHost = (e: Schemas["EqualGroup"]) =>
  (e.members ?? []).map((m) => ({ ...e, host: m.host, report: m.report, count: m.count }));
