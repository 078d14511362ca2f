import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef } from "react";
import { Link } from "react-router";
import { useListing, type Look } from "../../api/look";
import { Mode } from "../../components/Mode";
import { NoSuch } from "../../components/NoSuch";
import { Note } from "../../components/Note";

/** A folder's content, however long; for an account also what that account can do with it. */
export function Content({ look, folder }: { look: Look; folder: string }) {
  const list = useListing(look.where, folder, look.account, folder !== "" || look.where.snapshot !== undefined);
  const box = useRef<HTMLDivElement>(null);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const stopped = list.data?.pages[0]?.stopped;
  const rows = useVirtualizer({ count: items.length, getScrollElement: () => box.current, estimateSize: () => 46, overscan: 12 });
  const shown = rows.getVirtualItems();
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const end = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && end > items.length - 50) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage, end, items.length]);
  return (
    <section aria-labelledby="content">
      <h2 id="content" className="font-bold">{folder === "" ? "Roots" : <>In <code>{folder}</code></>}</h2>
      <Note error={list.error} />
      {stopped ? <Note>{look.account} does not see this listing: {stopped}.</Note> : null}
      <div ref={box} className="mt-2 h-[40vh] lg:h-[62vh] overflow-auto border-y border-line" tabIndex={0} role="region" aria-label="Content of the folder">
        <ul className="relative" style={{ height: rows.getTotalSize() }}>
          {shown.map((row) => {
            const p = items[row.index]!;
            return (
              <li
                key={p.path}
                ref={rows.measureElement}
                data-index={row.index}
                className={`absolute inset-x-0 top-0 grid grid-cols-[3.2rem_8.2rem_minmax(0,1fr)] items-center gap-x-3 border-b border-line py-1 ${p.path === look.path ? "bg-sheet" : ""}`}
                style={{ transform: `translateY(${row.start}px)` }}
              >
                <span className="text-sm text-muted">{p.kind}</span>
                <span>{p.access ? <Mode view={p.access} small /> : null}</span>
                <span className="min-w-0">
                  <Link to={look.address({ path: p.path, tab: look.tab === "below" && p.kind !== "folder" ? "" : look.tab })} aria-current={p.path === look.path ? "true" : undefined}><code>{p.name}</code></Link>
                  {p.access?.entries?.length || p.access?.defaults?.length ? <span title="access entries beyond the mode"> +</span> : null}
                  {p.target ? <code className="text-muted"> → {p.target}</code> : null}
                  <span className="block text-xs text-muted">
                    {p.access?.owner}<NoSuch when={p.access?.unknown?.includes("owner")} />:
                    {p.access?.group}<NoSuch what="group" when={p.access?.unknown?.includes("group")} />
                    {p.access?.flags?.length ? ` · ${p.access.flags.join(", ")}` : ""}
                    {p.gap ? ` · ${p.gap}` : ""}
                    {p.may ? ` · may ${p.may.join(", ") || "nothing"}` : ""}
                    {p.unopened ? <strong className="text-opens"> · sees it, cannot open it</strong> : null}
                  </span>
                </span>
              </li>
            );
          })}
        </ul>
      </div>
      {items.length === 0 && list.data ? <Note>The folder is empty.</Note> : null}
    </section>
  );
}
