import { Note } from "./Note";

/** There are no findings: what that means depends on whether everything could be read. */
export function NothingFound({ unread }: { unread: number }) {
  if (unread === 0) return <Note>Everything here is as declared.</Note>;
  const paths = unread === 1 ? "1 path" : `${unread.toLocaleString()} paths`;
  return <Note>What could be read is as declared; {paths} could not be read.</Note>;
}
