import type { View } from "../api/client";
import { Mode } from "./Mode";
import { ShareState } from "./ShareState";
import { ofShare } from "../schemes";

function Side({ title, view, other, ring }: { title: string; view: View; other: View; ring: boolean }) {
  const strong = (same: boolean) => (same ? "" : "font-semibold");
  const list = (name: string, mine?: string[] | null, theirs?: string[] | null) =>
    (mine?.length ?? 0) + (theirs?.length ?? 0) > 0 ? (
      <div className={strong(String(mine ?? "") === String(theirs ?? ""))}>
        <span className="text-muted">{name} </span>
        {mine?.length
          ? mine.map((e) => (
              <code key={e} className="mr-2 inline-block">
                {e}
              </code>
            ))
          : "none"}
      </div>
    ) : null;
  return (
    <div className="min-w-0">
      <div className="mb-1 text-xs font-semibold text-muted">{title}</div>
      {ofShare(view) ? (
        <ShareState view={view} other={other} />
      ) : (
        <>
          <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
            <Mode view={view} other={ring ? other : undefined} />
            <div className="min-w-0">
              <span className={strong(view.owner === other.owner)}>{view.owner}</span>
              <span className="text-muted"> : </span>
              <span className={strong(view.group === other.group)}>{view.group}</span>
            </div>
          </div>
          <div className="mt-1 text-sm">
            {list("entries", view.entries, other.entries)}
            {list("defaults", view.defaults, other.defaults)}
          </div>
        </>
      )}
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
