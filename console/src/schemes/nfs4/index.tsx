import { Mode } from "../../shared/Mode";
import { GroupRow } from "../parts/GroupRow";
import type { Scheme } from "../scheme";
import { Grants } from "../parts/Grants";
import { Modes } from "../parts/Modes";
import { OwnGrants } from "../parts/OwnGrants";
import { State } from "./State";

/** NFSv4 lists: entries that allow and deny, and a mode that follows from them. */
export const nfs4: Scheme = {
  outside: "mount",
  remote: false,
  group: true,
  Brief: ({ view }) => (
    <>
      {view.owner}:{view.group}, {view.entries?.length ?? 0} entries
    </>
  ),
  Cell: ({ view, declared }) => <Mode view={view} other={declared} small />,
  Side: State,
  Facts: ({ view }) => (
    <>
      <GroupRow view={view} />
      <dt className="text-muted">mode</dt>
      <dd>
        <span className="mono">
          {view.mode} {view.letters}
        </span>
        , which follows from the entries
      </dd>
    </>
  ),
  Lines: ({ sight }) => (
    <>
      <h3 className="mt-4 mb-1 font-semibold">Entries, in the order in which they count</h3>
      <Grants lines={sight.entries ?? []} folder={sight.kind === "folder"} />
    </>
  ),
  Compose: (of) => (
    <>
      <Modes {...of} />
      <OwnGrants of={of} lines={of.sight.entries ?? []} />
    </>
  ),
};
