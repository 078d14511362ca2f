import { useState } from "react";
import type { Group } from "../../api/client";
import { Button } from "../../ui/Button";
import { LongList } from "../../ui/LongList";
import type { Basket } from "./basket";
import type { Line } from "./model";
import { Paths } from "./Paths";
import { Waive } from "./Waive";

/** What is behind a line: its paths, host by host where there are several, and accepting them for a time. */
export function Opened({
  application,
  line,
  snapshotOf,
  mayWaive,
  basket,
}: {
  application: string;
  line: Line;
  snapshotOf: (report: string) => string;
  mayWaive: boolean;
  basket?: Basket;
}) {
  const [waiving, setWaiving] = useState<Group>();
  const [host, setHost] = useState("");
  const accept = (g: Group) =>
    mayWaive && !g.waiver ? <Button onClick={() => setWaiving(g)}>Accept for a time…</Button> : null;
  const paths = (g: Group) => <Paths group={g} snapshot={snapshotOf(g.report)} basket={basket} />;
  const [only] = line.parts.length === 1 ? line.parts : [];
  return (
    <>
      {line.why ? <p className="mt-1 text-sm text-muted">Why this rule: {line.why}</p> : null}
      {only ? (
        <>
          <div className="mt-2">{accept(only)}</div>
          {paths(only)}
        </>
      ) : (
        <LongList
          label={`Hosts of ${line.count.toLocaleString()} ${line.kind}s`}
          className="mt-2 h-[40vh]"
          flow={20}
          items={line.parts}
          keyOf={(g) => g.host}
          row={(g) => (
            <div className="py-1.5">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <button
                  type="button"
                  data-main
                  aria-expanded={host === g.host}
                  onClick={() => setHost(host === g.host ? "" : g.host)}
                  className="min-h-[24px] cursor-pointer text-left hover:underline"
                >
                  {g.host}: {g.count.toLocaleString()} <span aria-hidden="true">{host === g.host ? "▾" : "▸"}</span>
                </button>
                <span className="ml-auto">{accept(g)}</span>
              </div>
              {host === g.host ? paths(g) : null}
            </div>
          )}
        />
      )}
      {waiving ? <Waive application={application} group={waiving} close={() => setWaiving(undefined)} /> : null}
    </>
  );
}
