import type { Plan } from "../../api/client";
import { KeyKind } from "../../shared/KeyKind";
import { Command } from "../../ui/Command";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";

/** What people have signed of a plan by keys of their own. */
export function Signed({ plan }: { plan: Plan }) {
  if (!plan.signed?.length) return null;
  return (
    <section aria-labelledby="signed">
      <h2 id="signed" className="mt-6 mb-1 font-bold">
        Signed by people
      </h2>
      <Table label="Signed by people" columns={["Who", "Says", "Key", "Signed", "Counts until"]}>
        {plan.signed.map((s) => (
          <tr key={s.who + s.says}>
            <td>{s.who}</td>
            <td>{s.says}</td>
            <td>
              {s.key || "a key that the roster no longer has"} <KeyKind kind={s.kind} />
              <details className="text-sm">
                <summary className="cursor-pointer">What was signed</summary>
                <pre className="mt-1 max-w-xl rounded bg-sheet p-2 text-xs break-all whitespace-pre-wrap" tabIndex={0}>
                  {s.statement}
                </pre>
                <p className="text-muted">{s.fingerprint}</p>
              </details>
            </td>
            <td>
              <Time at={s.at} />
            </td>
            <td>
              <Time at={s.until} />
            </td>
          </tr>
        ))}
      </Table>
      <p className="mt-1 text-sm text-muted">
        Anybody who has the roster verifies this without the service:{" "}
        <a href={`/api/v1/plans/${plan.id}/evidence`} className="underline" download>
          download the evidence
        </a>
        , then
      </p>
      <Command text={`idletally plan verify ${plan.id}.evidence --roster FILE`} />
    </section>
  );
}
