import { Mode } from "../../shared/Mode";
import { GroupRow } from "../parts/GroupRow";
import type { Scheme } from "../scheme";
import { Compose } from "./Compose";
import { Lines } from "./Lines";
import { State } from "./State";

/** Modes and POSIX.1e lists. */
export const posix: Scheme = {
  outside: "mount",
  remote: false,
  group: true,
  Brief: ({ view }) => (
    <>
      {view.owner}:{view.group}{" "}
      <code>
        {view.mode}
        {view.entries?.length ? "+" : ""}
      </code>
    </>
  ),
  Cell: ({ view, declared }) => <Mode view={view} other={declared} small />,
  Side: State,
  Facts: ({ view }) => (
    <>
      <GroupRow view={view} />
      <dt className="text-muted">mode</dt>
      <dd className="mono">
        {view.mode} {view.letters}
      </dd>
    </>
  ),
  Lines,
  Compose,
};
