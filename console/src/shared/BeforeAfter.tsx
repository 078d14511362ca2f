import type { View } from "../api/client";
import { schemeOf } from "../schemes";

function Side({ title, view, other, ring }: { title: string; view: View; other: View; ring: boolean }) {
  const Shown = schemeOf(view).Side;
  return (
    <div className="min-w-0">
      <div className="mb-1 text-xs font-semibold text-muted">{title}</div>
      <Shown view={view} other={other} ring={ring} />
    </div>
  );
}

/** A change in two columns; what differs is ringed on the before side and strong on both. */
export function BeforeAfter({
  before,
  after,
  names = ["before", "after"],
}: {
  before: View;
  after: View;
  names?: [string, string];
}) {
  return (
    <div className="grid gap-4 sm:grid-cols-2">
      <Side title={names[0]} view={before} other={after} ring />
      <Side title={names[1]} view={after} other={before} ring={false} />
    </div>
  );
}
