import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { EffectMark } from "../../shared/EffectMark";
import { Time } from "../../ui/Time";

/** How a path differs from what is declared, with what leads on: to the findings like it, and to the rule. */
export function Differs({ findings, host }: { findings: readonly Schemas["PathFinding"][]; host: string }) {
  if (findings.length === 0) return null;
  return (
    <section aria-labelledby="differs" className="mb-4 rounded border border-line bg-sheet px-3 py-2">
      <h3 id="differs" className="font-semibold">
        Not as declared
      </h3>
      <ul>
        {findings.map((f) => (
          <li key={f.aspect} className="py-1">
            <EffectMark word={f.word} /> <span className="text-muted">{f.aspect}</span> declared{" "}
            <code>{f.declared}</code>, found <code>{f.found}</code>
            <span className="block text-sm text-muted">
              {f.meaning} · rule <Link to={`/baselines/${f.application}/edit`}>{f.rule}</Link> · {f.severity}
              {f.since ? (
                <>
                  {" "}
                  · since <Time at={f.since} />
                </>
              ) : null}
              {f.waived ? " · accepted for now" : ""} ·{" "}
              <Link to={`/drift/${f.application}?host=${host}`}>all like it, and a plan</Link>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
