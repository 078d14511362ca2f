import { Link } from "react-router";
import { useListing, type Look } from "../../api/look";
import { LongList } from "../../components/LongList";
import { Mode } from "../../components/Mode";
import { NoSuch } from "../../components/NoSuch";
import { Note } from "../../components/Note";

/** A folder's content, however long; for an account also what that account can do with it. */
export function Content({ look, folder }: { look: Look; folder: string }) {
  const list = useListing(look.where, folder, look.account, folder !== "" || look.where.snapshot !== undefined);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const stopped = list.data?.pages[0]?.stopped;
  return (
    <section aria-labelledby="content">
      <h2 id="content" className="font-bold">{folder === "" ? "Roots" : <>In <code>{folder}</code></>}</h2>
      <Note error={list.error} />
      {stopped ? <Note>{look.account} does not see this listing: {stopped}.</Note> : null}
      <LongList
        label="Content of the folder"
        className="mt-2 h-[40vh] lg:h-[62vh]"
        items={items}
        keyOf={(p) => p.path}
        more={list}
        row={(p) => (
          <div className={`grid grid-cols-[3.2rem_8.2rem_minmax(0,1fr)] items-center gap-x-3 py-1 ${p.path === look.path ? "bg-sheet" : ""}`}>
            <span className="text-sm text-muted">{p.kind}</span>
            <span>{p.access ? <Mode view={p.access} small /> : null}{p.access?.inheritance ? <span className="text-xs text-muted">entries {p.access.inheritance}</span> : null}</span>
            <span className="min-w-0">
              <Link to={look.address({ path: p.path, tab: look.tab === "below" && p.kind !== "folder" ? "" : look.tab })} aria-current={p.path === look.path ? "true" : undefined}><code>{p.name}</code></Link>
              {p.access?.entries?.length || p.access?.defaults?.length ? <span title="access entries beyond the mode"> +</span> : null}
              {p.target ? <code className="text-muted"> → {p.target}</code> : null}
              <span className="block text-xs text-muted">
                {p.access?.owner}<NoSuch when={p.access?.unknown?.includes("owner")} />
                {p.access?.inheritance ? null : <>:{p.access?.group}<NoSuch what="group" when={p.access?.unknown?.includes("group")} /></>}
                {p.access?.flags?.length ? ` · ${p.access.flags.join(", ")}` : ""}
                {p.gap ? ` · ${p.gap}` : ""}
                {p.may ? ` · may ${p.may.join(", ") || "nothing"}` : ""}
                {p.unopened ? <strong className="text-opens"> · sees it, cannot open it</strong> : null}
              </span>
            </span>
          </div>
        )}
      />
      {items.length === 0 && list.data ? <Note>The folder is empty.</Note> : null}
    </section>
  );
}
