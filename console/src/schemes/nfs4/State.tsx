import type { View } from "../../api/client";
import { ModeAndOwners } from "../parts/ModeAndOwners";

/** One side of a change: mode, owner and group, and each entry, in bold where the other side has none like it. */
export function State({ view, other, ring }: { view: View; other: View; ring: boolean }) {
  const strong = (same: boolean) => (same ? "" : "font-semibold");
  const has = new Set(other.entries ?? []);
  return (
    <div className="text-sm">
      <ModeAndOwners view={view} other={other} ring={ring} />
      <ul className="mt-1">
        {view.entries?.map((e, i) => (
          <li key={i} className={strong(has.has(e))}>
            <code>{e}</code>
          </li>
        ))}
        {view.entries?.length ? null : <li className={strong(!other.entries?.length)}>no entries</li>}
      </ul>
    </div>
  );
}
