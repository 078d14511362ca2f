import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { schemeOf } from "../../schemes";
import { Checkbox } from "../../ui/Checkbox";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import { compareAt, pairsOf, type Side } from "./model";
import { most, useWholeListing } from "./useWholeListing";

function Cell({ path }: { path?: Schemas["Path"] }) {
  if (!path) return <span className="text-sm text-muted">not there</span>;
  if (!path.access) return <span className="text-sm">{path.gap ?? path.kind}</span>;
  const { Cell } = schemeOf(path.access);
  return (
    <span className="flex flex-wrap items-center gap-x-3">
      <Cell view={path.access} />
      <span className="text-xs text-muted">
        {path.access.owner}
        {path.access.group ? `:${path.access.group}` : ""}
        {path.access.entries?.length ? " +" : ""}
      </span>
    </span>
  );
}

/** What is in two folders, name by name: what differs is told first to be looked at. */
export function Folders({ a, b }: { a: Side; b: Side }) {
  const [left, right] = [useWholeListing(a), useWholeListing(b)];
  const [all, setAll] = useState(false);
  const whole = left.whole && right.whole;
  const pairs = pairsOf(left.items, right.items).filter((p) => whole || (p.a && p.b));
  const differing = pairs.filter((p) => p.differs).length;
  const shown = all ? pairs : pairs.filter((p) => p.differs);
  return (
    <section aria-labelledby="in-them" className="mt-6">
      <h2 id="in-them" className="font-bold">
        In them
      </h2>
      <Note error={left.error ?? right.error} />
      <p role="status" className="mb-2 flex flex-wrap items-center gap-x-6">
        <span>
          {differing === 0
            ? `All ${pairs.length.toLocaleString()} names are alike.`
            : `${differing.toLocaleString()} of ${pairs.length.toLocaleString()} names differ.`}
        </span>
        <Checkbox checked={all} onChange={(e) => setAll(e.target.checked)}>
          show those that are alike, too
        </Checkbox>
      </p>
      {left.full || right.full ? (
        <Note>
          The first {most.toLocaleString()} names of each are compared, and only those of both:{" "}
          <code>idletally snapshot compare</code> compares whole trees.
        </Note>
      ) : null}
      <LongList
        label="What is in them"
        className="h-[50vh]"
        flow={30}
        estimate={40}
        items={shown}
        keyOf={(p) => p.name}
        row={(p) => (
          <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)] items-center gap-x-4 py-1.5">
            <span className="min-w-0 wrap-anywhere">
              {p.differs ? <span aria-hidden="true">≠ </span> : null}
              {p.a && p.b ? (
                <Link data-main to={compareAt({ ...a, path: p.a.path }, { ...b, path: p.b.path })}>
                  <code>{p.name}</code>
                </Link>
              ) : (
                <code>{p.name}</code>
              )}
              {p.differs ? <span className="sr-only"> differs</span> : null}
            </span>
            <Cell {...(p.a ? { path: p.a } : {})} />
            <Cell {...(p.b ? { path: p.b } : {})} />
          </div>
        )}
      />
    </section>
  );
}
