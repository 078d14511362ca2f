import { Link } from "react-router";
import type { Application } from "../api/client";
import { useApplications, useHosts, usePlans, useTakeSnapshot } from "../api/queries";
import { Button } from "../components/Button";
import { Command } from "../components/Command";
import { EffectMark } from "../components/EffectMark";
import { Matrix } from "../components/Matrix";
import { Note } from "../components/Note";
import { Time } from "../components/Time";
import { Table } from "../components/Table";
import { Watch } from "../components/Watch";

function HostLine({ app, state }: { app: Application; state: NonNullable<Application["hosts"]>[number] }) {
  const take = useTakeSnapshot();
  const r = state.report;
  return (
    <tr>
      <td>{state.host}</td>
      {r ? (
        <>
          <td className="figure">{r.paths.toLocaleString()}</td>
          <td className="figure">
            <Link to={`/drift/${app.name}?host=${state.host}`}>{r.findings.toLocaleString()}</Link>
          </td>
          <td className="figure">{r.opens ? <><EffectMark word="opens" /> {r.opens.toLocaleString()}</> : "–"}</td>
          <td className="figure">{r.closes ? <><EffectMark word="closes" /> {r.closes.toLocaleString()}</> : "–"}</td>
          <td className="figure">{r.unread.toLocaleString()}</td>
          <td><Time at={r.created} /></td>
        </>
      ) : (
        <td colSpan={6} className="text-muted">never looked at</td>
      )}
      <td className="figure">
        <Button disabled={take.isPending} onClick={() => take.mutate({ application: app.name, host: state.host })} aria-label={`Look again at ${app.name} on ${state.host}`}>
          {take.isSuccess ? "Asked for" : "Look again"}
        </Button>
        {take.error ? <div role="alert" className="text-opens text-sm">{take.error.message}</div> : null}
      </td>
    </tr>
  );
}

export default function Overview() {
  const apps = useApplications();
  const hosts = useHosts();
  const plans = usePlans();
  const waiting = plans.data?.items?.filter((p) => p.state === "in review" || p.state === "halted") ?? [];
  return (
    <>
      <h1 className="mb-4 font-bold">Overview</h1>
      <Note error={apps.error ?? hosts.error ?? plans.error} />
      <section aria-labelledby="needs" className="mb-8">
        <h2 id="needs" className="mb-2 font-bold">What needs somebody</h2>
        {waiting.length === 0 ? <p className="text-muted">No plan waits for a review, no run is halted.</p> : null}
        <ul>
          {waiting.map((p) => (
            <li key={p.id} className="border-b border-line py-1.5">
              <Link to={`/plans/${p.id}`}>{p.title}</Link> <span className="text-muted">— {p.state}, {p.steps.toLocaleString()} steps, by {p.author}</span>
            </li>
          ))}
        </ul>
      </section>
      <section aria-labelledby="applications" className="mb-8">
        <h2 id="applications" className="mb-2 font-bold">Applications</h2>
        {apps.data?.items?.length === 0 ? (
          <Note>
            Nothing is declared yet. Write a baseline, and upload it:
            <Command text="idletally baseline upload FILE" />
          </Note>
        ) : null}
        {(apps.data?.items?.length ?? 0) > 1 ? <Matrix applications={apps.data?.items ?? []} /> : null}
        {apps.data?.items?.map((app) => (
          <div key={app.name} className="mb-6">
            <h3 className="mb-1">
              <Link to={`/drift/${app.name}`} className="font-semibold">{app.name}</Link>
              <span className="text-muted"> — {app.title}{app.published ? `, edition ${app.published}` : ", nothing published"}</span>
            </h3>
          <Table label={`${app.name} on its hosts`} columns={["Host", { name: "Paths", figure: true }, { name: "Findings", figure: true }, { name: "Open", figure: true, wide: "w-36" }, { name: "Close", figure: true, wide: "w-36" }, { name: "Unread", figure: true }, { name: "Looked at", wide: "w-48" }, { name: "Actions", wide: "w-36", hidden: true }]} fixed>
                {app.hosts?.map((h) => <HostLine key={h.host} app={app} state={h} />)}
          </Table>
          </div>
        ))}
      </section>
      <section aria-labelledby="hosts">
        <h2 id="hosts" className="mb-2 font-bold">Hosts</h2>
        <Table label="Hosts" columns={["Host", "Tags", "Agent", "Watch", "Last seen"]}>
              {hosts.data?.items?.map((h) => (
                <tr key={h.name}>
                  <td>{h.name}</td>
                  <td>{h.tags?.join(", ")}</td>
                  <td>{h.enrolled ? h.version : "not enrolled"}</td>
                  <td><Watch state={h.watch} /></td>
                  <td><Time at={h.last_seen} /></td>
                </tr>
              ))}
        </Table>
        {hosts.data?.items?.length === 0 ? <Note>No host yet.<Command text="idletally host invite NAME --tag TAG" /></Note> : null}
      </section>
    </>
  );
}
