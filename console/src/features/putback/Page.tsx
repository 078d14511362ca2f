import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Person } from "../../api/client";
import { useDraft } from "../plans/queries";
import { useRuns } from "../runs/queries";
import { useSnapshot, useSnapshots } from "../snapshots/queries";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Waves } from "../../shared/Waves";
import { quoted } from "../look/model";
import { maySomewhere } from "../../shared/roles";
import { BackToRun } from "./BackToRun";
import { BackToSnapshot } from "./BackToSnapshot";
import { Select } from "../../ui/Select";
import { TextArea } from "../../ui/TextArea";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Checkbox } from "../../ui/Checkbox";

const listed = (text: string) =>
  text
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean);

const does = "Give paths back the permissions that they had, by a plan that somebody else reviews.";

/** From where to put back, how much of it, and a draft of that: undoing is a plan too. */
export default function PutBack({ me }: { me: Person }) {
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const runs = useRuns();
  const snapshots = useSnapshots();
  const draft = useDraft();
  const [title, setTitle] = useState("");
  const [waves, setWaves] = useState({ first: 1, stop_at: 10 });
  const run = search.get("run") ?? "";
  const snapshot = search.get("snapshot") ?? "";
  const chosen = search.getAll("host");
  const text = search.get("paths") ?? "";
  const set = (change: (next: URLSearchParams) => void) => {
    const next = new URLSearchParams(search);
    change(next);
    setSearch(next, { replace: true });
  };
  const source = (name: "run" | "snapshot", id: string) => setSearch({ [name]: id }, { replace: true });
  const paths = listed(text);
  const ended = (runs.data?.pages[0]?.items ?? []).filter((r) => r.state !== "running");
  const older = useSnapshot(snapshot).data; // than the newest ones, perhaps
  const newest = (snapshots.data?.items ?? []).filter((s) => s.state === "ready");
  const taken = older && !newest.some((s) => s.id === older.id) ? [...newest, older] : newest;
  const hosts = ended.find((r) => r.id === run)?.hosts?.map((h) => h.host) ?? [];
  const on = chosen.length ? hosts.filter((h) => chosen.includes(h)) : hosts;
  if (!maySomewhere(me, "author"))
    return (
      <>
        <Title text="Put back" does={does} />
        <Note>Drafting plans needs the role author. Ask somebody who has it.</Note>
      </>
    );
  return (
    <>
      <Title text="Put back" does={does} className="mb-1" />
      <p className="mb-4 text-sm text-muted">
        What comes of this is a plan: somebody else looks at it before anything changes, and it keeps originals of its
        own.
      </p>
      <ol className="grid gap-6">
        <li>
          <h2 className="mb-1 font-bold">1. To what</h2>
          <div className="grid gap-4 sm:grid-cols-2">
            <Field label="What a run found" className="text-sm">
              <Select className="mt-0.5 block w-full" value={run} onChange={(e) => source("run", e.target.value)}>
                <option value="">choose one of the newest runs</option>
                {ended.map((r) => (
                  <option key={r.id} value={r.id}>
                    {new Date(r.started).toLocaleString()} · {r.title}
                  </option>
                ))}
              </Select>
            </Field>
            <Field label="How a host was in a snapshot" className="text-sm">
              <Select
                className="mt-0.5 block w-full"
                value={snapshot}
                onChange={(e) => source("snapshot", e.target.value)}
              >
                <option value="">choose one of the newest snapshots</option>
                {taken.map((s) => (
                  <option key={s.id} value={s.id}>
                    {s.taken ? new Date(s.taken).toLocaleString() : ""} · {s.application} on {s.host}
                  </option>
                ))}
              </Select>
            </Field>
          </div>
        </li>
        {run || snapshot ? (
          <li>
            <h2 className="mb-1 font-bold">2. How much of it</h2>
            {hosts.length > 1 ? (
              <fieldset className="mb-2 flex flex-wrap gap-x-5 gap-y-1">
                <legend className="text-sm text-muted">Hosts</legend>
                {hosts.map((h) => (
                  <Checkbox
                    key={h}
                    checked={on.includes(h)}
                    disabled={on.length === 1 && on[0] === h}
                    onChange={(e) =>
                      set((next) => {
                        next.delete("host");
                        for (const x of hosts) if (x === h ? e.target.checked : on.includes(x)) next.append("host", x);
                      })
                    }
                  >
                    {h}
                  </Checkbox>
                ))}
              </fieldset>
            ) : null}
            <Field className="block text-sm" label="Only these paths: patterns, one in each line; none is all of them">
              <TextArea
                rows={2}
                className="mono mt-1 block w-full max-w-2xl"
                placeholder="/srv/ticketing/logs/**"
                value={text}
                onChange={(e) =>
                  set((next) => (e.target.value ? next.set("paths", e.target.value) : next.delete("paths")))
                }
              />
            </Field>
            {run ? (
              <BackToRun run={run} hosts={on} paths={paths} />
            ) : (
              <BackToSnapshot snapshots={taken} snapshot={snapshot} />
            )}
          </li>
        ) : null}
        {run || snapshot ? (
          <li>
            <h2 className="mb-1 font-bold">3. A plan of it</h2>
            <Field className="mb-3 block text-sm" label="What it is for">
              <Input
                className="mt-1 block w-full max-w-2xl"
                maxLength={200}
                value={title}
                onChange={(e) => setTitle(e.target.value)}
              />
            </Field>
            <Waves hosts={on.length} value={waves} set={setWaves} />
            <Note error={draft.error} />
            <Button
              look="strong"
              disabled={draft.isPending}
              onClick={() =>
                draft.mutate(
                  {
                    ...(run ? { run, ...(chosen.length ? { hosts: on } : {}) } : { snapshot }),
                    ...(paths.length ? { paths } : {}),
                    title: title || undefined,
                    ...(on.length > 1 ? waves : {}),
                  },
                  { onSuccess: (p) => void navigate(`/plans/${p.id}`) },
                )
              }
            >
              {draft.isPending ? "Drafting…" : "Draft it"}
            </Button>
            <Command
              text={`idletally plan restore ${run || `--snapshot ${snapshot}`}${run ? chosen.map((h) => ` --host ${h}`).join("") : ""}${paths.map((p) => ` --paths ${quoted(p)}`).join("")}`}
            />
          </li>
        ) : null}
      </ol>
      {run && ended.length > 0 && !ended.some((r) => r.id === run) ? (
        <Note>
          There is no run of this name that has ended. <Link to="/runs">All runs</Link>
        </Note>
      ) : null}
      {snapshot ? (
        <p className="text-sm text-muted">
          Taken <Time at={taken.find((s) => s.id === snapshot)?.taken} />.
        </p>
      ) : null}
    </>
  );
}
