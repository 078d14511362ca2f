import { useState } from "react";
import { useTrend } from "./queries";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { TrendChart } from "../../shared/TrendChart";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";

/** How drift went, host by host: as lines, and in figures. */
export function OverTime({ application, host }: { application: string; host: string }) {
  const [days, setDays] = useState(90);
  const trend = useTrend(application, days);
  const rows = trend.data?.items?.filter((t) => !host || t.host === host) ?? [];
  return (
    <>
      <Note error={trend.error} />
      <Field label="The last" className="mb-3 block">
        <Select value={days} onChange={(e) => setDays(Number(e.target.value))}>
          {[1, 7, 30, 90, 365].map((n) => (
            <option key={n} value={n}>
              {n === 1 ? "day" : `${n} days`}
            </option>
          ))}
        </Select>
      </Field>
      {rows.map((t) => (
        <section key={t.host} className="mb-6" aria-label={t.host}>
          <h2 className="mb-1 font-bold">{t.host}</h2>
          {t.points?.length ? <TrendChart of={t.host} points={t.points} /> : <Note>No snapshot in this time.</Note>}
          {t.points?.length ? (
            <details className="mt-1">
              <summary className="cursor-pointer text-sm">In figures</summary>
              <Table
                label={`Drift on ${t.host} in figures`}
                columns={[
                  "At",
                  { name: "Edition", figure: true },
                  { name: "Findings", figure: true },
                  { name: "Open", figure: true },
                  { name: "Close", figure: true },
                  { name: "Waived", figure: true },
                  { name: "New", figure: true },
                  { name: "Came back", figure: true },
                  { name: "Gone", figure: true },
                  { name: "Unread", figure: true },
                ]}
              >
                {t.points.toReversed().map((p) => (
                  <tr key={p.report}>
                    <td>
                      <Time at={p.at} />
                    </td>
                    {[p.edition, p.findings, p.opens, p.closes, p.waived, p.fresh, p.returned, p.gone, p.unread].map(
                      (n, i) => (
                        <td key={i} className="figure">
                          {n.toLocaleString()}
                        </td>
                      ),
                    )}
                  </tr>
                ))}
              </Table>
            </details>
          ) : null}
        </section>
      ))}
      <Command text={`idletally drift trend ${application} --days ${days}`} />
    </>
  );
}
