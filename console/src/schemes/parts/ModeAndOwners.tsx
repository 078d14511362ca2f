import type { View } from "../../api/client";
import { Mode } from "../../shared/Mode";

/** The head of one side of a change: mode, owner and group, in bold where the other side has another. */
export function ModeAndOwners({ view, other, ring }: { view: View; other: View; ring: boolean }) {
  const strong = (same: boolean) => (same ? "" : "font-semibold");
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
      <Mode view={view} other={ring ? other : undefined} />
      <div className="min-w-0">
        <span className={strong(view.owner === other.owner)}>{view.owner}</span>
        <span className="text-muted"> : </span>
        <span className={strong(view.group === other.group)}>{view.group}</span>
      </div>
    </div>
  );
}
