import { Link, useParams } from "react-router";
import type { Person } from "../../api/client";
import { useHistory } from "../history/queries";
import { useOverview } from "../overview/queries";
import { useSnapshotsOf, useTakeSnapshot } from "../snapshots/queries";
import { useHost } from "../settings/queries";
import { ChangeLink } from "../../shared/ChangeLink";
import { may, maySomewhere } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { EffectMark } from "../../shared/EffectMark";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Watch } from "../../shared/Watch";
import { CameTo } from "../snapshots/CameTo";
import { TakenAt } from "../snapshots/TakenAt";

const does = "See what the host holds and whether it is watched, look at its paths, and have it looked at again.";

/** One host: how each application stands on it, what it looked like, what was done to it. */
export default function HostPage({ me }: { me: Person }) {
  const { name = "" } = useParams();
  const host = useHost(name);
  const overview = useOverview(name);
  const snapshots = useSnapshotsOf({ host: name });
  const history = useHistory({ who: "", what: "", subject: name, from: "", to: "" });
  const take = useTakeSnapshot();
  const h = host.data;
  if (!h)
    return (
      <>
        <Title text={`Host ${name}`} does={does} />
        <Note error={host.error} />
      </>
    );
  const on = (overview.data?.applications ?? []).flatMap((a) =>
    (a.cells ?? []).filter((c) => c.host === name).map((c) => ({ a, c })),
  );
  const asked = (application: string) => take.isSuccess && take.variables?.application === application;
  return (
    <>
      <Title text={`Host ${h.name}`} does={does} className="mb-1" />
      <p className="mb-4 flex flex-wrap items-baseline gap-x-4 text-sm text-muted">
        <span>
          {h.enrolled ? `agent ${h.version}${h.carried ? ", by files that are carried" : ""}` : "not enrolled"}
        </span>
        {h.system ? <span>{h.system}</span> : null}
        {h.up_since ? (
          <span>
            up since <Time at={h.up_since} />
          </span>
        ) : null}
        {h.runs_since ? (
          <span>
            the agent since <Time at={h.runs_since} />
          </span>
        ) : null}
        <span>
          last contact <Time at={h.last_seen} />
        </span>
        <span className="inline-flex gap-1">
          watched: <Watch state={h.watch} />
        </span>
        {h.tags?.length ? <span>tags {h.tags.join(", ")}</span> : <span>no tags</span>}
        <Link to={`/settings?host=${h.name}`}>its settings</Link>
        {h.enrolled && !h.carried ? <Link to={`/look?host=${h.name}`}>look at it now</Link> : null}
        {h.enrolled && maySomewhere(me, "author") ? (
          <ChangeLink host={h.name} paths={[]}>
            change paths of it…
          </ChangeLink>
        ) : null}
      </p>
      {h.unfit ? <Note error={new Error(h.unfit)} /> : null}
      <h2 className="mb-1 font-bold">Applications</h2>
      {overview.data && on.length === 0 ? (
        <Note>No published baseline is for this host: baselines choose their hosts by name or tag.</Note>
      ) : null}
      {on.length > 0 ? (
        <Table
          label={`Applications on ${name}`}
          columns={[
            "Application",
            { name: "Findings", figure: true },
            { name: "Open", figure: true },
            { name: "Close", figure: true },
            "Looked at",
            "State",
            { name: "Actions", hidden: true },
          ]}
        >
          {on.map(({ a, c }) => (
            <tr key={a.name}>
              <td>
                <Link to={`/drift/${a.name}?host=${name}`}>{a.name}</Link> <span className="text-muted">{a.title}</span>
              </td>
              <td className="figure">{c.at ? c.findings.toLocaleString() : ""}</td>
              <td className="figure">
                {c.opens ? (
                  <>
                    <EffectMark word="opens" /> {c.opens.toLocaleString()}
                  </>
                ) : (
                  "–"
                )}
              </td>
              <td className="figure">
                {c.closes ? (
                  <>
                    <EffectMark word="closes" /> {c.closes.toLocaleString()}
                  </>
                ) : (
                  "–"
                )}
              </td>
              <td>{c.at ? <Time at={c.at} /> : null}</td>
              <td className={c.state === "declared" || c.state === "drifted" ? "" : "font-semibold"}>{c.says}</td>
              <td className="figure">
                {may(me, "operator", a.name) && !h.carried ? (
                  <Button
                    disabled={take.isPending}
                    onClick={() => take.mutate({ application: a.name, host: name })}
                    aria-label={asked(a.name) ? undefined : `Look again at ${a.name} on ${name}`}
                  >
                    {asked(a.name) ? "Asked for" : "Look again"}
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      <Note error={take.error} />
      <div className="mt-6 grid grid-cols-1 gap-x-10 gap-y-6 lg:grid-cols-2">
        <section aria-labelledby="snapshots">
          <h2 id="snapshots" className="mb-1 font-bold">
            What it looked like
          </h2>
          <Table
            label={`Snapshots of ${name}`}
            columns={["Taken", "Application", "State", { name: "Paths", figure: true }]}
          >
            {snapshots.data?.items?.slice(0, 20).map((s) => (
              <tr key={s.id}>
                <td>
                  <TakenAt snapshot={s} />
                </td>
                <td>{s.application}</td>
                <td>
                  <CameTo snapshot={s} />
                </td>
                <td className="figure">{s.paths.toLocaleString()}</td>
              </tr>
            ))}
          </Table>
          {(snapshots.data?.items?.length ?? 0) > 20 ? (
            <p className="mt-2 text-sm text-muted">
              The newest 20; <Link to={`/snapshots?host=${name}`}>all of them</Link>
            </p>
          ) : null}
          {snapshots.data?.items?.length === 0 ? <Note>Nobody has looked at it yet.</Note> : null}
        </section>
        <section aria-labelledby="history">
          <h2 id="history" className="mb-1 font-bold">
            What was done
          </h2>
          <ul className="text-sm">
            {history.data?.pages[0]?.items?.slice(0, 20).map((l) => (
              <li key={l.id} className="border-b border-line py-1">
                <span className="text-muted">
                  <Time at={l.at} />
                </span>{" "}
                {l.sentence}.
              </li>
            ))}
          </ul>
          <Link className="mt-2 inline-block text-sm" to={`/history?subject=${name}`}>
            all of it
          </Link>
        </section>
      </div>
      <Command text={`idletally host list`} />
    </>
  );
}
