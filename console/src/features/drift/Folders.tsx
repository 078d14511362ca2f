import { useState } from "react";
import { Link } from "react-router";
import type { Group, Report, Spot } from "../../api/client";
import { useFindingsUnder, usePlaces } from "./queries";
import { Button } from "../../ui/Button";
import { EffectMark } from "../../shared/EffectMark";
import { Note } from "../../ui/Note";
import type { Basket } from "./basket";
import { Checkbox } from "../../ui/Checkbox";

/** How much of the most there is: a bar whose parts are told apart by their order, too. */
function Bar({ spot, most }: { spot: Spot; most: number }) {
  const width = (n: number) => (n === 0 ? 0 : `max(2px, ${(100 * n) / Math.max(most, 1)}%)`);
  const { findings, opens } = spot.all;
  return (
    <svg className="h-3 w-24 shrink-0" aria-hidden="true" preserveAspectRatio="none">
      <rect className="fill-closes opacity-55" style={{ width: width(findings) }} height="100%" />
      <rect className="fill-opens" style={{ width: width(opens) }} height="100%" />
    </svg>
  );
}

function Row({
  report,
  spot,
  most,
  depth,
  at,
  go,
}: {
  report: string;
  spot: Spot;
  most: number;
  depth: number;
  at: string;
  go: (path: string) => void;
}) {
  const [open, setOpen] = useState(
    depth === 0 || (at !== spot.path && at.startsWith(spot.path === "/" ? "/" : `${spot.path}/`)),
  );
  const inside = usePlaces(report, spot.path, open);
  const name = depth === 0 ? spot.path : spot.path.slice(spot.path.lastIndexOf("/") + 1);
  return (
    <li>
      <div
        className={`flex items-center gap-2 rounded ${at === spot.path ? "bg-sheet" : ""}`}
        style={{ paddingLeft: `${depth * 1.1}rem` }}
      >
        {spot.below ? (
          <button
            type="button"
            className="w-6 shrink-0 cursor-pointer"
            aria-expanded={open}
            aria-label={`${open ? "Close" : "Open"} ${spot.path}`}
            onClick={() => setOpen(!open)}
          >
            {open ? "▾" : "▸"}
          </button>
        ) : (
          <span className="w-6 shrink-0" />
        )}
        <button
          type="button"
          className="min-w-0 flex-1 cursor-pointer truncate py-1 text-left hover:underline"
          aria-current={at === spot.path ? "true" : undefined}
          title={spot.path}
          onClick={() => go(spot.path)}
        >
          <code>{name}</code>
        </button>
        <Bar spot={spot} most={most} />
        <span className="w-14 shrink-0 text-right tabular-nums">{spot.all.findings.toLocaleString()}</span>
      </div>
      {open ? (
        <ul>
          {inside.data?.folders?.map((s) => (
            <Row key={s.path} report={report} spot={s} most={most} depth={depth + 1} at={at} go={go} />
          ))}
          {inside.data?.more ? <li className="pl-8 text-sm text-muted">and more, with fewer findings</li> : null}
        </ul>
      ) : null}
    </li>
  );
}

function Under({
  report,
  groups,
  at,
  basket,
}: {
  report: Report;
  groups: readonly Group[];
  at: string;
  basket?: Basket;
}) {
  const findings = useFindingsUnder(report.id, at);
  const rows = findings.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const of = new Map(groups.filter((g) => g.report === report.id).map((g) => [g.id, g]));
  return (
    <section aria-label={`Findings in ${at}`}>
      <h2 className="mb-1 font-bold">
        <code>{at}</code>
      </h2>
      <p className="mb-2 text-sm">
        <Link to={`/look?snapshot=${report.snapshot}&path=${encodeURIComponent(at)}`}>look at this folder</Link>
      </p>
      <Note error={findings.error} />
      <ul>
        {rows.map((f, i) => {
          const g = of.get(f.group);
          const again = rows[i - 1]?.path === f.path;
          return (
            <li key={f.seq} className={again || i === 0 ? "pb-1.5" : "border-t border-line py-1.5"}>
              {again ? null : (
                <>
                  <Link to={`/look?snapshot=${report.snapshot}&path=${encodeURIComponent(f.path)}`}>
                    <code>{f.path === at ? f.path : f.path.slice(at === "/" ? 1 : at.length + 1)}</code>
                  </Link>
                  {f.unread ? <strong className="ml-2 text-sm">as last read</strong> : null}
                </>
              )}
              {g ? (
                <div className="flex flex-wrap items-baseline gap-x-3 text-sm">
                  {basket ? (
                    <Checkbox
                      disabled={basket.hasGroup(g)}
                      checked={basket.hasGroup(g) || basket.hasSingle(f, report.host)}
                      onChange={(e) => basket.putSingle(f, report.host, e.target.checked)}
                      aria-label={`Put ${f.aspect} of ${f.path} in the basket`}
                    />
                  ) : null}
                  <EffectMark word={g.word} /> {f.aspect} <code>{g.found}</code>{" "}
                  <span className="text-muted">declared</span> <code>{g.declared}</code>
                  <span className="text-muted">
                    rule {g.rule}
                    {g.waiver ? ", accepted" : ""}
                  </span>
                </div>
              ) : (
                <div className="text-sm">{f.aspect}</div>
              )}
            </li>
          );
        })}
      </ul>
      {findings.hasNextPage ? (
        <Button className="mt-2" disabled={findings.isFetching} onClick={() => void findings.fetchNextPage()}>
          Show more
        </Button>
      ) : null}
      {findings.data && rows.length === 0 ? <p className="text-muted">No findings in this folder.</p> : null}
    </section>
  );
}

/** Where in the tree drift is: folders with all findings below them, and the findings of one. */
export function Folders({
  reports,
  groups,
  at,
  go,
  basket,
}: {
  reports: readonly Report[];
  groups: readonly Group[];
  at: string;
  go: (path: string) => void;
  basket?: Basket;
}) {
  const report = reports[0];
  const top = usePlaces(report?.id ?? "", "/", Boolean(report));
  const root = useOnlyWay(report?.id ?? "", top.data);
  if (!report) return null;
  return (
    <>
      {reports.length > 1 ? (
        <p className="mb-2 text-sm text-muted">This is {report.host}. Choose a host above for another one.</p>
      ) : null}
      <p className="mb-3 flex flex-wrap gap-x-5 text-sm text-muted">
        <span>Findings in a folder and all below it:</span>
        <span>
          <span aria-hidden="true" className="mr-1 inline-block size-3 bg-opens" />
          open something
        </span>
        <span>
          <span aria-hidden="true" className="mr-1 inline-block size-3 bg-closes opacity-55" />
          close something, or neither
        </span>
      </p>
      <Note error={top.error} />
      <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
        <ul key={report.id} aria-label="Folders with findings" className="max-h-[70vh] overflow-y-auto" tabIndex={0}>
          {root ? (
            <Row
              key={root.path}
              report={report.id}
              spot={root}
              most={root.all.findings}
              depth={0}
              at={at || root.path}
              go={go}
            />
          ) : null}
        </ul>
        {root ? <Under report={report} groups={groups} at={at || root.path} basket={basket} /> : null}
      </div>
    </>
  );
}

/** The first folder that is worth showing: above it there is but one way. */
function useOnlyWay(
  report: string,
  top?: { path: string; all: Spot["all"]; here: Spot["here"]; below: boolean; folders?: Spot[] | null },
): Spot | undefined {
  const first = top?.folders?.length === 1 && top.here.findings === 0 ? top.folders[0] : undefined;
  const next = usePlaces(report, first?.path ?? "", Boolean(first));
  const second =
    first && next.data?.folders?.length === 1 && next.data.here.findings === 0 ? next.data.folders[0] : first;
  return second ?? top;
}
