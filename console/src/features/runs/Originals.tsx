import { useState } from "react";
import { Link } from "react-router";
import type { Run, View } from "../../api/client";
import { useOriginals } from "./queries";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import { useSettled } from "../../ui/useSettled";
import { literal } from "./model";
import { schemeOf } from "../../schemes";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";

function Brief({ view }: { view: View }) {
  const Shown = schemeOf(view).Brief;
  return <Shown view={view} />;
}

/** What a run found before it changed anything, path by path: the stuff of putting back. */
export function Originals({ run, author }: { run: Run; author: boolean }) {
  const hosts = run.hosts ?? [];
  const [host, setHost] = useState(hosts[0]?.host ?? "");
  const [pattern, setPattern] = useState("");
  const [open, setOpen] = useState("");
  const paths = useSettled(pattern.trim());
  const list = useOriginals(run.id, host, paths);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const back = new URLSearchParams({ run: run.id, host, ...(paths ? { paths } : {}) });
  return (
    <section className="mt-6" aria-labelledby="originals">
      <h2 id="originals" className="mb-1 font-bold">
        What it found
      </h2>
      <div className="mb-2 flex flex-wrap items-end gap-4">
        <Field label="Host" className="text-sm">
          <Select className="mt-0.5 block" value={host} onChange={(e) => setHost(e.target.value)}>
            {hosts.map((h) => (
              <option key={h.host}>{h.host}</option>
            ))}
          </Select>
        </Field>
        <Field label="Paths" className="min-w-0 flex-1 text-sm">
          <Input
            className="mono mt-0.5 block w-full max-w-md"
            placeholder="all; or a pattern, such as /srv/**/*.log"
            value={pattern}
            onChange={(e) => setPattern(e.target.value)}
          />
        </Field>
        {author && items.length > 0 ? (
          <Link className="pb-2 text-sm" to={`/put-back?${back}`}>
            Put {paths ? "these" : "what is listed"} back…
          </Link>
        ) : null}
      </div>
      <Note error={list.error} />
      <LongList
        label="Originals"
        items={items}
        more={list}
        estimate={36}
        className="max-h-[50vh]"
        keyOf={(o) => o.path}
        row={(o) => (
          <div className="py-1.5">
            <button
              type="button"
              className="flex w-full cursor-pointer flex-wrap items-baseline gap-x-3 text-left hover:underline"
              aria-expanded={open === o.path}
              onClick={() => setOpen(open === o.path ? "" : o.path)}
            >
              <span className="w-14 shrink-0 text-sm text-muted">{o.kind}</span>
              <code className="min-w-0 flex-1">{o.path}</code>
              <span className="text-sm">
                <Brief view={o.original} />{" "}
                <span className="text-muted">
                  → <Brief view={o.left} />
                </span>
              </span>
              <span aria-hidden="true">{open === o.path ? "▾" : "▸"}</span>
            </button>
            {open === o.path ? (
              <div className="py-2 pl-4">
                <BeforeAfter before={o.original} after={o.left} names={["found", "left"]} />
                <p className="mt-2 flex flex-wrap gap-x-4 text-sm">
                  <Link to={`/look?host=${encodeURIComponent(host)}&path=${encodeURIComponent(o.path)}`}>
                    Look at it as it is now
                  </Link>
                  {author ? (
                    <Link to={`/put-back?${new URLSearchParams({ run: run.id, host, paths: literal(o.path) })}`}>
                      Put it back…
                    </Link>
                  ) : null}
                </p>
              </div>
            ) : null}
          </div>
        )}
      />
      {list.isPending ? (
        <p role="status" className="text-muted">
          Reading…
        </p>
      ) : null}
      {list.data && !list.hasNextPage && items.length === 0 ? (
        <Note>{paths ? "No path that it changed fits this pattern." : "The run changed nothing there."}</Note>
      ) : null}
    </section>
  );
}
