import type { Plan } from "../../api/client";
import { RemarkForm } from "./RemarkForm";
import { Said } from "./Said";

/** What people said of a plan and of its steps, and room for more. */
export function Remarks({ plan }: { plan: Plan }) {
  return (
    <section className="mt-6" aria-labelledby="remarks">
      <h2 id="remarks" className="mb-1 font-bold">
        Remarks
      </h2>
      <Said remarks={plan.remarks ?? []} of />
      <RemarkForm plan={plan.id} label="Say something of the plan" />
    </section>
  );
}
