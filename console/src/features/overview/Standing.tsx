import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { EffectMark } from "../../shared/EffectMark";
import { Time } from "../../ui/Time";
import { Cells } from "./Cells";

/** One application on all of its hosts. */
export function Standing({ of: a }: { of: Schemas["Standing"] }) {
  return (
    <li className="border-b border-line py-3">
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h3>
          <Link to={`/drift/${a.name}`} className="font-semibold">
            {a.name}
          </Link>{" "}
          <span className="text-muted">{a.title}</span>
        </h3>
        {a.published ? (
          <>
            <span>
              <strong>{a.findings.toLocaleString()}</strong> findings
            </span>
            {a.opens ? (
              <span>
                <EffectMark word="opens" /> {a.opens.toLocaleString()}
              </span>
            ) : null}
            {a.closes ? (
              <span>
                <EffectMark word="closes" /> {a.closes.toLocaleString()}
              </span>
            ) : null}
            {a.grave ? <strong>{a.grave.toLocaleString()} grave</strong> : null}
            {a.waived ? <span className="text-muted">{a.waived.toLocaleString()} accepted</span> : null}
            <span className="ml-auto text-sm text-muted">
              <Link to={`/baselines/${a.name}`}>edition {a.published}</Link> ·{" "}
              <span className={a.verdict.holds ? "" : "text-ink"}>{a.verdict.says}</span>
              {a.oldest ? (
                <>
                  {" "}
                  · {a.hosts === 1 ? "looked at" : "the oldest look"} <Time at={a.oldest} />
                </>
              ) : null}
            </span>
          </>
        ) : (
          <span className="text-muted">
            nothing is published: <Link to={`/baselines/${a.name}`}>its drafts</Link>
          </span>
        )}
      </div>
      <Cells application={a.name} cells={a.cells ?? []} more={a.hosts - (a.cells?.length ?? 0)} />
    </li>
  );
}
