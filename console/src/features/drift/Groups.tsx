import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Group, Person, Report } from "../../api/client";
import { useFindings, useWithdraw } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { By } from "./By";
import { Command } from "../../ui/Command";
import { ChangeLink } from "../../shared/ChangeLink";
import { EffectMark } from "../../shared/EffectMark";
import { Note } from "../../ui/Note";
import { TallyGrid } from "../../shared/TallyGrid";
import { Time } from "../../ui/Time";
import type { Basket } from "./basket";
import { aged, sieved, type Sieve } from "./model";
import { Triage } from "./Triage";
import { Waive } from "./Waive";
import { Checkbox } from "../../ui/Checkbox";

const key = (g: Group) => `${g.report}/${g.id}`;
// A declared mode may be a limit instead, such as g+r,o-w.
const octal = /^[0-7]{1,4}$/;
const isMode = (g: Group) => g.aspect === "mode";

function Value({ group, text, other }: { group: Group; text: string; other?: string }) {
  if (isMode(group) && octal.test(text)) {
    return (
      <span className="inline-flex items-center gap-2 align-middle">
        <TallyGrid mode={text} other={other && octal.test(other) ? other : undefined} /> <code>{text}</code>
      </span>
    );
  }
  return <code>{text}</code>;
}

/** Since when findings are there, and how many came or came back last. */
function Age({ group }: { group: Group }) {
  if (!group.since) return null;
  if (group.fresh === group.count) return <strong> · new</strong>;
  return (
    <>
      {" · since "}
      <Time at={group.since} />
      {group.fresh ? <strong> · {group.fresh.toLocaleString()} new</strong> : null}
      {group.returned ? <strong> · {group.returned.toLocaleString()} came back</strong> : null}
      {group.unread ? (
        <strong> · {group.unread === group.count ? "" : `${group.unread.toLocaleString()} `}as last read</strong>
      ) : null}
    </>
  );
}

function Paths({ group, snapshot, open, basket }: { group: Group; snapshot: string; open: boolean; basket?: Basket }) {
  const findings = useFindings(group.report, group.id, open);
  return (
    <div className="mt-2">
      <Note error={findings.error} />
      <ul className="max-h-72 overflow-y-auto text-sm" tabIndex={0} aria-label="Paths of this group">
        {findings.data?.items?.map((f) => (
          <li key={f.seq} className="flex flex-wrap items-baseline gap-x-2">
            {basket ? (
              <Checkbox
                disabled={basket.hasGroup(group)}
                checked={basket.hasGroup(group) || basket.hasSingle(f, group.host)}
                onChange={(e) => basket.putSingle(f, group.host, e.target.checked)}
                aria-label={`Put ${f.path} in the basket`}
              />
            ) : null}
            <Link
              to={`/look?snapshot=${snapshot}&path=${encodeURIComponent(f.path)}`}
              className="inline-block min-h-[24px] leading-[24px]"
            >
              <code>{f.path}</code>
            </Link>{" "}
            {f.unread ? <strong>as last read</strong> : null} <By act={f.by} />
            {basket ? (
              <ChangeLink host={group.host} paths={[f.path]} className="ml-auto">
                change…
              </ChangeLink>
            ) : null}
          </li>
        ))}
      </ul>
      {findings.data?.next ? (
        <p className="text-sm text-muted">
          The first 500 of {group.count.toLocaleString()}; all of them:{" "}
          <code>idletally drift findings --group {group.id}</code>
        </p>
      ) : null}
    </div>
  );
}

function Line({
  application,
  group,
  snapshot,
  basket,
  mayWaive,
}: {
  application: string;
  group: Group;
  snapshot: string;
  mayWaive: boolean;
  basket?: Basket;
}) {
  const [waiving, setWaiving] = useState(false);
  const withdraw = useWithdraw();
  return (
    <li className="border-b border-line py-3">
      <Disclosure>
        {({ open }) => (
          <div className="flex gap-3">
            {basket ? (
              <Checkbox
                checked={basket.hasGroup(group)}
                onChange={(e) => basket.putGroups([group], e.target.checked)}
                aria-label={`Choose ${group.count} ${group.kind}s in ${group.folder}: ${group.aspect} ${group.found}`}
              />
            ) : null}
            <div className="min-w-0 flex-1">
              <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
                <EffectMark word={group.word} />
                <DisclosureButton className="cursor-pointer text-left font-semibold hover:underline">
                  {group.count === 1 ? `1 ${group.kind}` : `${group.count.toLocaleString()} ${group.kind}s`}{" "}
                  <span aria-hidden="true">{open ? "▾" : "▸"}</span>
                </DisclosureButton>
                <code className="min-w-0">{group.count === 1 ? group.example : `${group.folder}/…`}</code>
                <span className="ml-auto text-sm text-muted">
                  <Link to={`/hosts/${group.host}`}>{group.host}</Link> · rule{" "}
                  <Link to={`/baselines/${application}/edit`}>{group.rule}</Link> · {group.severity}
                  <Age group={group} />
                </span>
              </div>
              <div className="mt-1 grid items-center gap-x-6 gap-y-1 sm:grid-cols-[5rem_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.4fr)]">
                <span className="font-semibold">{group.aspect}</span>
                <span>
                  <span className="text-xs text-muted">found </span>
                  <Value group={group} text={group.found} other={group.declared} />
                </span>
                <span>
                  <span className="text-xs text-muted">declared </span>
                  <Value group={group} text={group.declared} />
                </span>
                <span className="text-sm">{group.meaning}</span>
                {group.by ? (
                  <span className="sm:col-span-3 sm:col-start-2">
                    <By act={group.by} />
                  </span>
                ) : null}
              </div>
              {group.waiver ? (
                <p className="mt-1 text-sm">
                  <strong>Waived</strong> by {group.waiver.author} until <Time at={group.waiver.ends} />:{" "}
                  {group.waiver.reason}{" "}
                  {mayWaive ? (
                    <Button disabled={withdraw.isPending} onClick={() => withdraw.mutate(group.waiver!.id)}>
                      Withdraw
                    </Button>
                  ) : null}
                </p>
              ) : null}
              <DisclosurePanel>
                {mayWaive && !group.waiver ? (
                  <div className="mt-2">
                    <Button onClick={() => setWaiving(true)}>Accept for a time…</Button>
                  </div>
                ) : null}
                {waiving ? <Waive application={application} group={group} close={() => setWaiving(false)} /> : null}
                <Note error={withdraw.error} />
                {group.why ? <p className="mt-1 text-sm text-muted">Why this rule: {group.why}</p> : null}
                <Paths group={group} snapshot={snapshot} open={open} basket={basket} />
              </DisclosurePanel>
            </div>
          </div>
        )}
      </Disclosure>
    </li>
  );
}

/** Equal findings as one line, to be understood, accepted, or put in the basket. */
export function Groups({
  application,
  me,
  all,
  reports,
  sieve,
  set,
  basket,
}: {
  application: string;
  me: Person;
  all: readonly Group[];
  reports: readonly Report[];
  sieve: Sieve;
  set: (part: Partial<Sieve>) => void;
  basket?: Basket;
}) {
  const told = useMemo(() => aged(all), [all]);
  const groups = useMemo(() => sieved(told, sieve), [told, sieve]);
  const counting = groups.filter((g) => !g.waiver);
  const whole = counting.length > 0 && counting.every((g) => basket?.hasGroup(g));
  return (
    <>
      {all.length > 0 ? <Triage groups={told} sieve={sieve} set={set} /> : null}
      <div className="mb-2 flex flex-wrap items-center gap-4">
        {basket ? (
          <Button
            className="ml-auto"
            disabled={counting.length === 0}
            onClick={() => basket.putGroups(counting, !whole)}
          >
            {whole ? "Choose none" : "Choose all"}
          </Button>
        ) : null}
      </div>
      {reports.length !== 0 && groups.length === 0 ? (
        <Note>{all.length === 0 ? "Nothing was found that is not as declared." : "No finding is like this."}</Note>
      ) : null}
      <ul>
        {groups.map((g) => (
          <Line
            key={key(g)}
            application={application}
            group={g}
            mayWaive={may(me, "reviewer", application)}
            snapshot={reports.find((r) => r.id === g.report)?.snapshot ?? ""}
            basket={basket}
          />
        ))}
      </ul>
      <Command text={`idletally drift show ${application}`} />
    </>
  );
}
