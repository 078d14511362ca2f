import type { View } from "../api/client";
import { TallyGrid } from "./TallyGrid";

/** A mode: tally grid, octal and letters beside each other. */
export function Mode({ view, other, small }: { view: View; other?: View; small?: boolean }) {
  if (!view.mode) return null;
  return (
    <span className="inline-flex items-center gap-2 whitespace-nowrap">
      <TallyGrid mode={view.mode} other={other?.mode} small={small} />
      <span className="mono leading-tight">
        {view.mode}
        <br />
        <span className="text-muted">{view.letters}</span>
      </span>
    </span>
  );
}
