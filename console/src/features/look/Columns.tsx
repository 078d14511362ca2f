import type { ReactNode } from "react";
import type { Look } from "./address";
import { Tree } from "./Tree";
import { useTreeShown } from "./useTreeShown";

/** A folder's content and what there is to say of a path, with the tree of folders before them where it is shown. */
export function Columns({
  look,
  folder,
  content,
  children,
}: {
  look: Look;
  folder: string | undefined; // not known yet
  content: ReactNode;
  children: ReactNode;
}) {
  const [shown, show] = useTreeShown();
  const columns = shown
    ? "lg:grid-cols-[14rem_minmax(0,5fr)_minmax(0,6fr)]"
    : "lg:grid-cols-[minmax(0,5fr)_minmax(0,7fr)]";
  return (
    <>
      <p className="mt-2 text-sm">
        <button type="button" className="cursor-pointer underline" aria-expanded={shown} onClick={() => show(!shown)}>
          {shown ? "Hide the tree of folders" : "Show the tree of folders"}
        </button>
      </p>
      <div className={`mt-1 grid grid-cols-1 gap-x-6 gap-y-6 ${columns}`}>
        {shown ? folder === undefined ? <div /> : <Tree look={look} folder={folder} /> : null}
        {content}
        {children}
      </div>
    </>
  );
}
