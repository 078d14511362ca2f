import { useState } from "react";
import type { Person } from "../../api/client";
import { Entry } from "./Entry";
import { useListing } from "./queries";
import type { Look } from "./address";
import { ChangeLink } from "../../shared/ChangeLink";
import { maySomewhere } from "../../shared/roles";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";

/** The paths that somebody has marked, to be changed together. */
function Marked({ host, paths, clear }: { host: string; paths: readonly string[]; clear: () => void }) {
  if (paths.length === 0) return null;
  return (
    <p className="mt-2 flex flex-wrap items-baseline gap-x-4">
      <ChangeLink host={host} paths={paths}>
        {paths.length === 1 ? "Change the marked path…" : `Change the ${paths.length} marked paths…`}
      </ChangeLink>
      <button type="button" className="cursor-pointer text-sm underline" onClick={clear}>
        mark none
      </button>
    </p>
  );
}

/** A folder's content, however long; for an account also what that account can do with it. */
export function Content({ look, folder, me }: { look: Look; folder: string; me: Person }) {
  const [marked, setMarked] = useState<readonly string[]>([]);
  const list = useListing(look.where, folder, look.account, folder !== "" || look.where.snapshot !== undefined);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const host = list.data?.pages[0]?.origin.host;
  const marks = host !== undefined && maySomewhere(me, "author");
  const markOf = (path: string) => (on: boolean) =>
    setMarked(on ? [...marked, path] : marked.filter((x) => x !== path));
  const hidden = items.filter((p) => p.hidden).length;
  const stopped = list.data?.pages[0]?.stopped;
  return (
    <section aria-labelledby="content">
      <h2 id="content" className="font-bold">
        {folder === "" ? (
          "Roots"
        ) : (
          <>
            In <code>{folder}</code>
          </>
        )}
      </h2>
      <Note error={list.error} />
      {stopped ? (
        <Note>
          {look.account} does not see this listing: {stopped}.
        </Note>
      ) : null}
      {hidden > 0 ? (
        <Note>
          The share hides {hidden === 1 ? "one" : hidden.toLocaleString()} of these from {look.account}:{" "}
          {hidden === 1 ? "it is" : "they are"} marked, and not in the listing that {look.account} gets.
        </Note>
      ) : null}
      {marks ? <Marked host={host} paths={marked} clear={() => setMarked([])} /> : null}
      <LongList
        label="Content of the folder"
        className="mt-2 h-[40vh] lg:h-[62vh]"
        items={items}
        keyOf={(p) => p.path}
        more={list}
        row={(p) => (
          <Entry path={p} look={look} marked={marked.includes(p.path)} {...(marks ? { mark: markOf(p.path) } : {})} />
        )}
      />
      {items.length === 0 && list.data ? <Note>The folder is empty.</Note> : null}
    </section>
  );
}
