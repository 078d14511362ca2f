import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { usePaths, useSnapshot } from "../api/queries";
import { Mode } from "../components/Mode";
import { Note } from "../components/Note";
import { Time } from "../components/Time";

/** The folders on the way from the snapshot's root, each a link. */
function Way({ id, path, roots }: { id: string; path: string; roots: readonly string[] }) {
  const root = roots.find((r) => path === r || path.startsWith(r + "/")) ?? "";
  const below = path.slice(root.length).split("/").filter(Boolean);
  const steps = [...(root ? [{ name: root, to: root }] : []), ...below.map((name, i) => ({ name, to: root + "/" + below.slice(0, i + 1).join("/") }))];
  return (
    <nav aria-label="Way to this folder" className="my-3">
      <Link to={`/snapshots/${id}`}>roots</Link>
      {steps.map((s) => (
        <span key={s.to}>
          {" › "}
          <Link to={`/snapshots/${id}?path=${encodeURIComponent(s.to)}`}><code>{s.name}</code></Link>
        </span>
      ))}
    </nav>
  );
}

export default function Browse() {
  const { id = "" } = useParams();
  const [search] = useSearchParams();
  const path = search.get("path") ?? "";
  const snap = useSnapshot(id);
  const paths = usePaths(id, path);
  const box = useRef<HTMLDivElement>(null);
  const items = paths.data?.items ?? [];
  const rows = useVirtualizer({ count: items.length, getScrollElement: () => box.current, estimateSize: () => 44, overscan: 12 });
  return (
    <>
      <h1 className="font-bold">{snap.data?.application} on {snap.data?.host}</h1>
      <p className="text-sm text-muted">Snapshot of <Time at={snap.data?.taken} />, {snap.data?.paths.toLocaleString()} paths, gaps: {snap.data?.gaps}. Root hash <code>{snap.data?.root}</code></p>
      <Way id={id} path={path} roots={snap.data?.roots ?? []} />
      <Note error={snap.error ?? paths.error} />
      <div ref={box} className="h-[65vh] overflow-auto border-y border-line" tabIndex={0} role="region" aria-label="Content of the folder">
        <ul className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((row) => {
            const p = items[row.index]!;
            return (
              <li key={p.path} ref={rows.measureElement} data-index={row.index} className="absolute inset-x-0 top-0 flex flex-wrap items-center gap-x-4 border-b border-line py-1" style={{ transform: `translateY(${row.start}px)` }}>
                <span className="w-16 text-sm text-muted">{p.kind}</span>
                <span className="w-36">{p.access ? <Mode view={p.access} small /> : null}</span>
                <span className="w-52 text-sm">
                  {p.access?.owner}{p.access?.unknown?.includes("owner") ? <em className="text-opens"> (no such account)</em> : null}
                  <span className="text-muted"> : </span>
                  {p.access?.group}{p.access?.unknown?.includes("group") ? <em className="text-opens"> (no such group)</em> : null}
                </span>
                <span className="min-w-0 flex-1">
                  {p.kind === "folder" && !p.gap ? <Link to={`/snapshots/${id}?path=${encodeURIComponent(p.path)}`}><code>{p.name}</code></Link> : <code>{p.name}</code>}
                  {p.gap ? <span className="text-sm text-muted"> — {p.gap}</span> : null}
                  {p.access?.entries?.length ? <span className="block text-xs text-muted">{p.access.entries.join(" ")}</span> : null}
                </span>
              </li>
            );
          })}
        </ul>
      </div>
      {items.length === 0 && paths.data ? <Note>The folder is empty.</Note> : null}
      {paths.data?.next ? <p className="text-sm text-muted">The first 5,000 entries are shown.</p> : null}
    </>
  );
}
