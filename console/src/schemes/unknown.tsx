import type { Scheme } from "./scheme";

const Says = () => <em>permissions of a kind that this page does not know: load it anew</em>;

/** Stands in where a service is newer than the page. A path that could not be read has no scheme either. */
export const unknown: Scheme = {
  outside: "mount",
  remote: false,
  group: true,
  Brief: Says,
  Cell: ({ view }) => (view.scheme ? <Says /> : null),
  Side: Says,
  Facts: ({ view }) => (view.scheme ? <Says /> : null),
  Lines: () => null,
  Compose: Says,
};
