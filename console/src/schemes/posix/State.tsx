import type { View } from "../../api/client";
import { Mode } from "../../components/Mode";

/** One side of a change: mode, owner and group, and the entries of both lists. */
export function State({ view, other, ring }: { view: View; other: View; ring: boolean }) {
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
  );
}
