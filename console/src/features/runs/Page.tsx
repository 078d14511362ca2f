import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useParams } from "react-router";
import type { Person, Run } from "../../api/client";
import { useHalt, useResults, useResume, useRun } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { StateWord } from "../../shared/StateWord";
import { Rest } from "../../ui/Rest";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Originals } from "./Originals";
import { keys } from "../../api/keys";

/** Follows a run by server-sent events, for as long as it goes on. */
function useLive(id: string, running: boolean) {
  const client = useQueryClient();
  useEffect(() => {
    if (!running) return;
    const source = new EventSource(`/api/v1/runs/${id}/events`);
    source.addEventListener("run", (e) => {
      const run = JSON.parse(e.data as string) as Run;
      client.setQueryData(keys.run(id), run);
      if (run.state !== "running") {
        source.close();
        void client.invalidateQueries();
      }
    });
    return () => source.close();
  }, [client, id, running]);
}

export default function RunPage({ me }: { me: Person }) {
  const { id = "" } = useParams();
  const query = useRun(id);
  const run = query.data;
  const running = run?.state === "running";
  useLive(id, running);
  const results = useResults(id, run !== undefined && !running);
  const halt = useHalt(id);
  const resume = useResume(id);
  if (!run) return <Note error={query.error} />;
  return (
    <>
      <Title
        text={`Run: ${run.title}`}
        does="Follow the run host by host, and put back what it changed."
        className="mb-2"
      />
      <p className="flex flex-wrap items-baseline gap-x-3 text-sm text-muted" aria-live="polite">
        <StateWord state={run.state} />
        <span>
          started by {run.started_by}, <Time at={run.started} />
        </span>
        {run.ended ? (
          <span>
            ended <Time at={run.ended} />
          </span>
        ) : null}
        <Link to={`/plans/${run.plan}`}>its plan</Link>
      </p>
      <div className="my-4 flex gap-2">
        {running && may(me, "operator", run.application) ? (
          <Button disabled={halt.isPending} onClick={() => halt.mutate(undefined)}>
            Halt at the next step
          </Button>
        ) : null}
        {run.state === "halted" && may(me, "operator", run.application) ? (
          <Button look="strong" disabled={resume.isPending} onClick={() => resume.mutate(undefined)}>
            Go on
          </Button>
        ) : null}
        {!running && may(me, "author", run.application) ? (
          <Link
            className="inline-flex min-h-9 items-center rounded border border-line bg-sheet px-3 py-1.5 text-sm font-semibold no-underline hover:border-ink"
            to={`/put-back?run=${run.id}`}
          >
            Put it back…
          </Link>
        ) : null}
      </div>
      <Note error={halt.error ?? resume.error} />
      <ul>
        {run.hosts?.map((h) => (
          <li key={h.host} className="border-b border-line py-3">
            <div className="flex flex-wrap items-baseline gap-x-4">
              <span className="font-semibold">{h.host}</span>
              <StateWord state={h.state} />
              <span className="text-sm">{h.done.toLocaleString()} done</span>
              {h.already ? <span className="text-sm">{h.already.toLocaleString()} already as planned</span> : null}
              <span className="text-sm">{h.skipped.toLocaleString()} skipped</span>
              <span className="text-sm">{h.refused.toLocaleString()} refused</span>
              {h.wrong ? <span className="text-sm">{h.wrong.toLocaleString()} changed again by others</span> : null}
            </div>
            <progress
              className="mt-2 h-2 w-full"
              value={h.progress}
              max={Math.max(h.total, 1)}
              aria-label={`Progress on ${h.host}`}
            />
            <div className="text-sm text-muted">
              {h.progress.toLocaleString()} of {h.total.toLocaleString()} steps
            </div>
            {h.message ? <Note>{h.message}</Note> : null}
            {running && h.state === "waiting" ? (
              <div className="text-sm text-muted">
                Its agent has not taken it yet. Where nothing leads to the host, carry it there:{" "}
                <Command text={`idletally run export ${run.id} ${h.host} FILE`} />
              </div>
            ) : null}
          </li>
        ))}
      </ul>
      {results.data?.items?.length ? (
        <section className="mt-6">
          <h2 className="mb-1 font-bold">What was not done</h2>
          <Table label="What was not done" columns={["Host", "Path", "Outcome", "Reason"]}>
            {results.data.items.map((r) => (
              <tr key={`${r.host}${r.step}`}>
                <td className="whitespace-nowrap">{r.host}</td>
                <td className="min-w-80 w-2/5">
                  <code>{r.path}</code>
                </td>
                <td>{r.outcome}</td>
                <td>{r.reason}</td>
              </tr>
            ))}
          </Table>
          <Rest of={results.data} command={`idletally run results ${run.id} --all`} />
        </section>
      ) : null}
      {running ? null : <Originals run={run} author={may(me, "author", run.application)} />}
      <Command text={running ? `idletally run watch ${run.id}` : `idletally run show ${run.id}`} />
    </>
  );
}
