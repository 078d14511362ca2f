import { useMemo, useState } from "react";
import type { Person, Report } from "../../api/client";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import type { Basket } from "./basket";
import { Line } from "./Line";
import { around, rowsOf, sieved, type Line as Equal, type Row, type Narrowing, type Sieve } from "./model";
import { Triage } from "./Triage";

const keyOf = (r: Row) =>
  "line" in r ? `${r.line.host}/${r.line.id}/${r.line.waiver?.id ?? ""}` : `heading ${r.heading}`;

const nothing: Record<string, string> = {
  cause: "no cause is known",
  doer: "nobody is known to have touched them since",
};

/** Equal findings as one line, to be understood, accepted, or put in the basket. */
export function Groups({
  application,
  me,
  lines,
  reports,
  looked,
  sieve,
  set,
  basket,
}: {
  application: string;
  me: Person;
  lines: readonly Equal[];
  reports: readonly Report[];
  looked: boolean; // at a host at least
  sieve: Sieve;
  set: (part: Narrowing) => void;
  basket?: Basket;
}) {
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const shown = useMemo(() => sieved(lines, sieve), [lines, sieve]);
  const rows = useMemo(() => rowsOf(shown, sieve.under), [shown, sieve.under]);
  const snapshots = useMemo(() => new Map(reports.map((r) => [r.id, r.snapshot])), [reports]);
  const counting = shown.filter((l) => !l.waiver).flatMap((l) => l.parts);
  const whole = counting.length > 0 && counting.every((g) => basket?.hasGroup(g));
  const mayWaive = may(me, "reviewer", application);
  const wider = around(shown, sieve);
  const toggle = (key: string, on: boolean) => {
    const next = new Set(open);
    if (on) next.add(key);
    else next.delete(key);
    setOpen(next);
  };
  return (
    <>
      {lines.length > 0 ? (
        <Triage lines={lines} sieve={sieve} set={set}>
          {basket ? (
            <Button
              className="ml-auto"
              disabled={counting.length === 0}
              onClick={() => basket.putGroups(counting, !whole)}
            >
              {whole ? "Choose none" : "Choose all"}
            </Button>
          ) : null}
        </Triage>
      ) : null}
      {wider > 0 ? (
        <Note>
          {wider === 1 ? "One of these lines has" : `${wider.toLocaleString()} of these lines have`} findings beside
          that folder, too: <em>By folder</em> tells them apart.
        </Note>
      ) : null}
      {looked && shown.length === 0 ? (
        <Note>{lines.length === 0 ? "Nothing was found that is not as declared." : "No finding is like this."}</Note>
      ) : null}
      <LongList
        label="Findings"
        className="h-[70vh]"
        estimate={84}
        flow={100}
        items={rows}
        keyOf={keyOf}
        row={(r) =>
          "line" in r ? (
            <Line
              application={application}
              line={r.line}
              mayWaive={mayWaive}
              snapshotOf={(report) => snapshots.get(report) ?? ""}
              open={open.has(keyOf(r))}
              setOpen={(on) => toggle(keyOf(r), on)}
              {...(basket ? { basket } : {})}
            />
          ) : (
            <h2 className="pt-4 pb-1 font-bold first-letter:uppercase">
              {r.heading || nothing[sieve.under]}{" "}
              <span className="font-normal text-muted">
                {r.count === 1 ? "1 finding" : `${r.count.toLocaleString()} findings`}
              </span>
            </h2>
          )
        }
      />
      <Command text={`idletally drift show ${application}`} />
    </>
  );
}
