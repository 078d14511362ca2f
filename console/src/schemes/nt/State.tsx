import type { View } from "../../api/client";

/**
 * One side of a change on a share: its owner, whether it inherits entries, and each entry, in bold where the other
 * side has none like it.
 */
export function State({ view, other }: { view: View; other: View }) {
  const strong = (same: boolean) => (same ? "" : "font-semibold");
  const has = new Set(other.entries ?? []);
  return (
    <div className="text-sm">
      <div>
        <span className="text-muted">owner </span>
        <span className={strong(view.owner === other.owner)}>{view.owner}</span>
      </div>
      <div>
        <span className="text-muted">entries </span>
        <span className={strong(view.inheritance === other.inheritance)}>{view.inheritance}</span>
      </div>
      <ul>
        {view.entries?.map((e, i) => (
          <li key={i} className={strong(has.has(e))}>
            <code>{e}</code>
          </li>
        ))}
        {view.entries?.length ? null : <li className={strong(!other.entries?.length)}>none</li>}
      </ul>
    </div>
  );
}
