import { useState } from "react";
import type { Person } from "../../api/client";
import { useWaivers, useWithdraw } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Rest } from "../../ui/Rest";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Checkbox } from "../../ui/Checkbox";

const soon = 14 * 24 * 60 * 60 * 1000;

/** What somebody has accepted, soonest to end first. */
export function Waivers({ application, host, me }: { application: string; host: string; me: Person }) {
  const [all, setAll] = useState(false);
  const [now] = useState(() => Date.now());
  const waivers = useWaivers(application, all);
  const withdraw = useWithdraw();
  const rows = waivers.data?.items?.filter((w) => !host || !w.host || w.host === host) ?? [];
  const withdraws = may(me, "reviewer", application);
  return (
    <>
      <Note error={waivers.error ?? withdraw.error} />
      <Checkbox checked={all} onChange={(e) => setAll(e.target.checked)} className="mb-2 flex items-center gap-2">
        {" "}
        Those that ended or were withdrawn, too
      </Checkbox>
      {waivers.data && rows.length === 0 ? (
        <Note>Nothing is accepted. A reviewer accepts findings from their group, with a reason and an end.</Note>
      ) : (
        <Table
          label="Accepted findings"
          columns={["Until", "Which findings", "Reason", "By", { name: "Actions", hidden: true }]}
        >
          {rows.map((w) => (
            <tr key={w.id}>
              <td>
                <Time at={w.ends} />
                <div className="text-sm">
                  {w.withdrawn ? (
                    <>withdrawn by {w.withdrawn_by}</>
                  ) : !w.counts ? (
                    "ended"
                  ) : new Date(w.ends).getTime() - now < soon ? (
                    <strong>ends soon</strong>
                  ) : null}
                </div>
              </td>
              <td>
                <code>{w.paths}</code>
                <div className="text-sm text-muted">
                  {[
                    w.host && `host ${w.host}`,
                    w.rule && `rule ${w.rule}`,
                    w.kind,
                    w.aspect,
                    w.found && `found ${w.found}`,
                  ]
                    .filter(Boolean)
                    .join(", ") || "every finding"}
                </div>
              </td>
              <td>{w.reason}</td>
              <td>{w.author}</td>
              <td className="figure">
                {withdraws && w.counts ? (
                  <Button disabled={withdraw.isPending} onClick={() => withdraw.mutate(w.id)}>
                    Withdraw
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </Table>
      )}
      <Rest of={waivers.data} command={`idletally waiver list ${application} --all${all ? " --ended" : ""}`} />
      <Command text={`idletally waiver list ${application}${all ? " --ended" : ""}`} />
    </>
  );
}
