import type { Scheme } from "../scheme";
import { Compose } from "./Compose";
import { Lines } from "./Lines";
import { State } from "./State";

/** Security descriptors of file shares. */
export const nt: Scheme = {
  outside: "share",
  remote: true,
  group: false,
  Brief: ({ view }) => (
    <>
      {view.owner}, entries {view.inheritance}
    </>
  ),
  Cell: ({ view }) => <span className="text-xs text-muted">entries {view.inheritance}</span>,
  Side: State,
  Facts: ({ view }) => (
    <>
      <dt className="text-muted">entries</dt>
      <dd>{view.inheritance}</dd>
    </>
  ),
  Lines,
  Compose,
};
