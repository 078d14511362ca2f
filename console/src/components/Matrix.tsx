import { Link } from "react-router";
import type { Application } from "../api/client";
import { EffectMark } from "./EffectMark";

/** Every application on every host at one glance: how many findings, and whether they open or close. */
export function Matrix({ applications }: { applications: readonly Application[] }) {
  const hosts = [...new Set(applications.flatMap((a) => a.hosts?.map((h) => h.host) ?? []))].toSorted();
  return (
    <div className="relative mb-8 overflow-x-auto" role="region" aria-label="Applications on hosts" tabIndex={0}>
      <table className="w-auto">
        <thead>
          <tr>
            <th scope="col">Findings</th>
            {applications.map((a) => <th key={a.name} scope="col"><Link to={`/drift/${a.name}`}>{a.name}</Link></th>)}
          </tr>
        </thead>
        <tbody>
          {hosts.map((host) => (
            <tr key={host}>
              <th scope="row" className="rowhead">{host}</th>
              {applications.map((a) => {
                const state = a.hosts?.find((h) => h.host === host);
                const r = state?.report;
                return (
                  <td key={a.name}>
                    {!state ? <span className="text-muted" aria-label="not kept here">·</span> : !r ? <span className="text-muted">never looked at</span> : (
                      <Link className="inline-flex items-center gap-2 no-underline" to={`/drift/${a.name}?host=${host}`}>
                        <span className="min-w-12 text-right underline decoration-line underline-offset-3">{r.findings.toLocaleString()}</span>
                        {r.findings === 0 ? null : <EffectMark word={r.opens && r.closes ? "both" : r.opens ? "opens" : r.closes ? "closes" : "neither"} />}
                      </Link>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
