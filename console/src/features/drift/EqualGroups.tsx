import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { byHost } from "./model";
import { Button } from "../../ui/Button";
import { EffectMark } from "../../shared/EffectMark";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Verdict } from "../../shared/Verdict";
import { Cells } from "../overview/Cells";
import type { Basket } from "./basket";

type Equal = Schemas["EqualGroup"];

/** The hosts of one line, those with most first. */
function Members({ application, of }: { application: string; of: Equal }) {
  const [open, setOpen] = useState(false);
  const all = of.members ?? [];
  const shown = open ? all.slice(0, 200) : all.slice(0, 5);
  return (
    <span className="text-sm text-muted">
      {shown.map((m) => (
        <Link key={m.host} className="mr-3 inline-block" to={`/drift/${application}?host=${m.host}`}>
          {m.host} {m.count.toLocaleString()}
        </Link>
      ))}
      {all.length > shown.length ? (
        open ? (
          `and ${(all.length - shown.length).toLocaleString()} more`
        ) : (
          <button type="button" className="cursor-pointer underline" onClick={() => setOpen(true)}>
            and {(all.length - shown.length).toLocaleString()} more
          </button>
        )
      ) : null}
    </span>
  );
}

/** Equal findings of many hosts as one line each: a fleet is mended as it went wrong, at once. */
export function EqualGroups({
  application,
  standing,
  equal,
  total,
  error,
  pending,
  basket,
}: {
  application: string;
  standing: Schemas["Standing"];
  equal: readonly Equal[];
  total?: number;
  error: Error | null;
  pending: boolean;
  basket?: Basket;
}) {
  return (
    <>
      <Verdict of={standing.verdict} className="mb-2" />
      <p className="mb-2">
        <strong>{standing.findings.toLocaleString()}</strong> findings on {standing.hosts.toLocaleString()} hosts.
      </p>
      <Cells
        here
        application={application}
        cells={standing.cells ?? []}
        more={standing.hosts - (standing.cells?.length ?? 0)}
      />
      <h2 className="mt-5 mb-1 font-bold">Equal findings</h2>
      <Note error={error} />
      {pending ? (
        <p className="text-muted" role="status">
          Putting equal ones together…
        </p>
      ) : null}
      {!pending && !error && equal.length === 0 ? <Note>Nothing was found that nobody accepted.</Note> : null}
      {total && total > equal.length ? (
        <p className="mb-1 text-sm">
          {equal.length.toLocaleString()} of {total.toLocaleString()} groups, those on most hosts first: one host has
          all of its own.
        </p>
      ) : null}
      {equal.length > 0 ? (
        <LongList
          label="Equal findings"
          className="h-[60vh]"
          estimate={88}
          items={equal}
          keyOf={(e) => e.id}
          row={(e) => {
            const all = byHost(e);
            const whole = basket !== undefined && all.every((g) => basket.hasGroup(g));
            return (
              <div className="py-2 pr-3">
                <div className="flex flex-wrap items-baseline gap-x-3">
                  <EffectMark word={e.word} />
                  <strong>
                    {e.total.toLocaleString()} {e.kind}s
                  </strong>
                  <span>on {e.hosts === 1 ? "1 host" : `${e.hosts.toLocaleString()} hosts`}</span>
                  <code className="min-w-0">{e.folder}/…</code>
                  <span className="text-sm text-muted">
                    rule <Link to={`/baselines/${application}/edit`}>{e.rule}</Link> · {e.severity}
                    {e.since ? (
                      <>
                        {" "}
                        · since <Time at={e.since} />
                      </>
                    ) : null}
                  </span>
                  {basket ? (
                    <Button className="ml-auto" onClick={() => basket.putGroups(all, !whole)}>
                      {whole ? "Take out" : "Put in the basket"}
                    </Button>
                  ) : null}
                </div>
                <div className="mt-1 text-sm">
                  <span className="text-muted">{e.aspect} declared</span> <code>{e.declared}</code>{" "}
                  <span className="text-muted">found</span> <code>{e.found}</code> <span className="text-muted">·</span>{" "}
                  {e.meaning}
                </div>
                <Members application={application} of={e} />
              </div>
            );
          }}
        />
      ) : null}
    </>
  );
}
