import { Link } from "react-router";
import type { Schemas, View } from "../../api/client";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { By } from "../../shared/By";
import { schemeOf } from "../../schemes";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { literal } from "../runs/model";
import { quoted } from "./model";
import { usePathTimes } from "./queries";

type State = Schemas["PathTime"];

/** What was so: the first state by itself, each later one beside the one before it. */
function Was({ state, before }: { state: State; before?: View }) {
  if (!state.access) return <p>{state.gap ? `Could not be read: ${state.gap}.` : "It was not there."}</p>;
  if (before?.scheme === state.access.scheme && before)
    return <BeforeAfter before={before} after={state.access} names={["before", "then"]} />;
  const { Side } = schemeOf(state.access);
  return <Side view={state.access} other={state.access} ring={false} />;
}

/** The newest state that another one can be put back to is the one before it; a run is put back by what it found. */
function Back({ to, path, children }: { to: Record<string, string>; path: string; children: string }) {
  return <Link to={`/put-back?${new URLSearchParams({ ...to, paths: literal(path) })}`}>{children}</Link>;
}

/** What a path was in the snapshots of its host: since when it is as it is, who made it so, and the way back. */
export function OverTime({ host, path, author }: { host: string; path: string; author: boolean }) {
  const times = usePathTimes(host, path);
  const pages = times.data?.pages ?? [];
  const states = pages.flatMap((p) => p.items ?? []);
  const runs = pages[0]?.runs ?? [];
  return (
    <>
      <Note error={times.error} />
      {times.data && states.length === 0 ? <Note>No snapshot of {host} that was looked at holds it.</Note> : null}
      {runs.length > 0 ? (
        <section aria-label="Runs that changed it" className="mb-4 rounded border border-line bg-sheet px-3 py-2">
          <h3 className="font-semibold">Changed by runs</h3>
          <ul>
            {runs.map((r) => (
              <li key={r.run} className="flex flex-wrap items-baseline gap-x-4 py-1">
                <span>
                  <Link to={`/runs/${r.run}`}>{r.title}</Link>, started by {r.by}, <Time at={r.started} />
                </span>
                {author ? (
                  <Back to={{ run: r.run, host }} path={path}>
                    Undo it here…
                  </Back>
                ) : null}
              </li>
            ))}
          </ul>
        </section>
      ) : null}
      {pages[0]?.more_runs ? <p className="mb-2 text-sm text-muted">Earlier runs were not looked through.</p> : null}
      <ol>
        {states.map((s, i) => (
          <li key={s.snapshot} className="border-b border-line py-3">
            <p className="mb-2 flex flex-wrap items-baseline gap-x-4">
              <strong>
                {i === 0 ? "since " : ""}
                <Time at={s.from} />
                {i === 0 ? "" : " to "}
                {i === 0 ? null : <Time at={s.to} />}
              </strong>
              <span className="text-sm text-muted">
                {s.snapshots === 1 ? "in one snapshot" : `in ${s.snapshots.toLocaleString()} snapshots`}
                {s.after ? (
                  <>
                    , otherwise at <Time at={s.after} />
                  </>
                ) : null}
              </span>
              <Link className="text-sm" to={`/look?snapshot=${s.snapshot}&path=${encodeURIComponent(path)}`}>
                look at it then
              </Link>
              {author && i > 0 && s.access ? (
                <span className="text-sm">
                  <Back to={{ snapshot: s.snapshot }} path={path}>
                    Put it back to this…
                  </Back>
                </span>
              ) : null}
            </p>
            <Was state={s} {...(states[i + 1]?.access ? { before: states[i + 1]!.access! } : {})} />
            <By act={s.by} />
          </li>
        ))}
      </ol>
      {times.hasNextPage ? (
        <button type="button" className="mt-2 cursor-pointer underline" onClick={() => void times.fetchNextPage()}>
          older snapshots
        </button>
      ) : null}
      <Command text={`idletally path times --host ${host} ${quoted(path)}`} />
    </>
  );
}
