import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { pastQuery, type Past } from "./model";
import { useHistory } from "./queries";
import { quoted } from "../look/model";
import { Command } from "../../ui/Command";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { VerifyHistory } from "./VerifyHistory";
import { useSettled } from "../../ui/useSettled";
import { Input } from "../../ui/Input";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";

type Line = Schemas["History"];

const pages: Record<string, (subject: string) => string> = {
  plan: (s) => `/plans/${s}`,
  run: (s) => `/runs/${s}`,
  host: (s) => `/hosts/${s}`,
  application: (s) => `/drift/${s}`,
  person: () => "/settings?tab=people",
};

/** A line as a sentence, in which what it is about leads there. */
function Sentence({ line }: { line: Line }) {
  const to = line.about && line.subject ? pages[line.about]?.(line.subject) : undefined;
  const by = line.who.length + (line.token ? ` (token ${line.token})`.length : 0);
  const at = to ? line.sentence.indexOf(line.subject, by) : -1;
  if (!to || at < 0) return <>{line.sentence}.</>;
  return (
    <>
      {line.sentence.slice(0, at)}
      <Link to={to}>{line.subject}</Link>
      {line.sentence.slice(at + line.subject.length)}.
    </>
  );
}

/** Who did what, and when. */
export default function History() {
  const [search, setSearch] = useSearchParams();
  const get = (name: keyof Past) => search.get(name) ?? "";
  // What is typed is here at once, and in the address when it has settled.
  const [past, setPast] = useState<Past>({
    who: get("who"),
    what: get("what"),
    subject: get("subject"),
    from: get("from"),
    to: get("to"),
  });
  const settled = useSettled(past, 250);
  const history = useHistory(settled);
  const lines = history.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  useEffect(
    () => setSearch(Object.fromEntries(Object.entries(settled).filter(([, v]) => v)), { replace: true }),
    [settled, setSearch],
  );
  const set = (name: keyof Past, value: string) => setPast({ ...past, [name]: value });
  const file = `/api/v1/history/file?${new URLSearchParams(pastQuery(past)).toString()}`;
  const flags = (["who", "what", "subject", "from", "to"] as const)
    .filter((n) => past[n])
    .map((n) => ` --${n} ${quoted(past[n])}`)
    .join("");
  return (
    <>
      <Title text="History" does="Find out who did what, when, and what was refused." />
      <Form className="mb-3 flex flex-wrap items-end gap-x-3 gap-y-2">
        <Field label="Who" className="text-sm">
          <Input
            className="mt-0.5 block w-40"
            value={past.who}
            spellCheck={false}
            placeholder="anybody"
            onChange={(e) => set("who", e.target.value)}
          />
        </Field>
        <Field label="What" className="text-sm">
          <Select className="mt-0.5 block" value={past.what} onChange={(e) => set("what", e.target.value)}>
            <option value="">anything</option>
            {[
              ["plan", "plans"],
              ["run", "runs"],
              ["edition", "baselines"],
              ["findings waived", "findings accepted"],
              ["snapshot", "snapshots"],
              ["host", "hosts enrolled"],
              ["sign-in", "sign-ins"],
              ["person", "people"],
              ["roles", "roles"],
              ["policy", "policy"],
            ].map(([w, n]) => (
              <option key={w} value={w}>
                {n}
              </option>
            ))}
          </Select>
        </Field>
        <Field label="To what" className="text-sm">
          <Input
            className="mt-0.5 block w-48"
            value={past.subject}
            spellCheck={false}
            placeholder="plan, host, person…"
            onChange={(e) => set("subject", e.target.value)}
          />
        </Field>
        <Field label="From" className="text-sm">
          <Input type="date" className="mt-0.5 block" value={past.from} onChange={(e) => set("from", e.target.value)} />
        </Field>
        <Field label="To" className="text-sm">
          <Input type="date" className="mt-0.5 block" value={past.to} onChange={(e) => set("to", e.target.value)} />
        </Field>
        <a
          className="inline-flex min-h-9 items-center rounded border border-line bg-sheet px-3 py-1.5 text-sm font-semibold no-underline hover:border-ink"
          href={file}
          download
        >
          As a table (CSV)
        </a>
        <VerifyHistory />
      </Form>
      <Note error={history.error} />
      {history.data && lines.length === 0 ? <Note>Nothing of that kind happened.</Note> : null}
      {lines.length > 0 ? (
        <LongList
          label="History"
          className="h-[65vh]"
          estimate={34}
          items={lines}
          keyOf={(l) => l.id}
          more={history}
          row={(l) => (
            <div className="grid grid-cols-1 gap-x-4 py-1.5 sm:grid-cols-[12rem_minmax(0,1fr)]">
              <span className="text-sm text-muted">
                <Time at={l.at} seconds />
              </span>
              <span className="min-w-0 wrap-anywhere">
                <Sentence line={l} />
              </span>
            </div>
          )}
        />
      ) : null}
      <Command text={`idletally history${flags}`} />
    </>
  );
}
