import type { Snapshot } from "../../api/client";
import { StateWord } from "../../shared/StateWord";

/** What a snapshot came to, and why, if there is a reason. */
export function CameTo({ snapshot }: { snapshot: Snapshot }) {
  return (
    <>
      <StateWord state={snapshot.state} />
      {snapshot.message ? <div className="text-sm">{snapshot.message}</div> : null}
    </>
  );
}
