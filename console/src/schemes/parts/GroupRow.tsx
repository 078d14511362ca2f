import type { View } from "../../api/client";
import { NoSuch } from "../../shared/NoSuch";

/** The owning group as a row of a description list. */
export function GroupRow({ view }: { view: View }) {
  return (
    <>
      <dt className="text-muted">group</dt>
      <dd>
        {view.group}
        <NoSuch what="group" when={view.unknown?.includes("group")} />
      </dd>
    </>
  );
}
