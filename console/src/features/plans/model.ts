import type { Plan } from "../../api/client";

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
