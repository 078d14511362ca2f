import type { View } from "../../api/client";
import { ModeAndOwners } from "../parts/ModeAndOwners";

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
      <ModeAndOwners view={view} other={other} ring={ring} />
      <div className="mt-1 text-sm">
        {list("entries", view.entries, other.entries)}
        {list("defaults", view.defaults, other.defaults)}
      </div>
    </>
  );
}
