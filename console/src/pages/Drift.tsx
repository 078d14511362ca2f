import { Link, useParams, useSearchParams } from "react-router";
import type { Person } from "../api/client";
import { useDrift } from "../api/queries";
import { Command } from "../components/Command";
import { Note } from "../components/Note";
import { Tabs } from "../components/Tabs";
import { Time } from "../components/Time";
import { useBasket } from "./drift/basket";
import { BasketBar } from "./drift/BasketBar";
import { Causes } from "./drift/Causes";
import { Folders } from "./drift/Folders";
import { Groups } from "./drift/Groups";
import { OverTime } from "./drift/OverTime";
import { Waivers } from "./drift/Waivers";

/** What differs from the baseline: as groups, by folder, over time, and why it comes back. */
export default function Drift({ me }: { me: Person }) {
  const { application = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const drift = useDrift(application);
  const own = useBasket(application, drift.data?.groups ?? []);
  const basket = me.roles?.includes("author") ? own : undefined;
  const host = search.get("host") ?? "";
  const set = (changes: Record<string, string>) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    setSearch(next, { replace: true });
  };
  const reports = (drift.data?.reports ?? []).filter((r) => !host || r.host === host);
  const groups = (drift.data?.groups ?? []).filter((g) => !host || g.host === host);
  return (
    <>
      <div className="mb-1 flex flex-wrap items-baseline gap-x-6">
        <h1 className="font-bold">Drift of {application}</h1>
        <Link to={`/baselines/${application}`}>its baseline</Link>
      </div>
      <Note error={drift.error} />
      <ul className="mb-3 text-sm text-muted">
        {reports.map((r) => (
          <li key={r.id}>
            <Link to={`/look?snapshot=${r.snapshot}`}>{r.host}</Link>: {r.judged.toLocaleString()} of {r.paths.toLocaleString()} paths judged by edition {r.edition}, {r.findings.toLocaleString()} findings, {r.waived ? `${r.waived.toLocaleString()} more waived, ` : ""}{r.unread} unread, <Time at={r.created} />
            {r.problems?.map((p) => <div key={p.message}>{p.message}</div>)}
          </li>
        ))}
      </ul>
      <label className="mb-3 block">Host{" "}
        <select className="box" value={host} onChange={(e) => set({ host: e.target.value, at: "" })}>
          <option value="">all</option>
          {drift.data?.reports?.map((r) => <option key={r.host}>{r.host}</option>)}
        </select>
      </label>
      {drift.data?.reports?.length === 0 ? <Note>No host was looked at yet.<Command text={`idletally snapshot take ${application}`} /></Note> : null}
      <Tabs
        at={search.get("tab") ?? ""}
        go={(tab) => set({ tab })}
        tabs={[
          { key: "", name: "Groups", panel: <Groups application={application} me={me} all={groups} reports={reports} word={search.get("effect") ?? ""} setWord={(effect) => set({ effect })} basket={basket} /> },
          { key: "folders", name: "By folder", panel: <Folders reports={reports} groups={groups} at={search.get("at") ?? ""} go={(at) => set({ at })} basket={basket} /> },
          { key: "time", name: "Over time", panel: <OverTime application={application} host={host} /> },
          { key: "causes", name: "Coming back", panel: <Causes application={application} host={host} /> },
          { key: "waivers", name: "Accepted", panel: <Waivers application={application} host={host} me={me} /> },
        ]}
      />
      {basket ? <BasketBar application={application} basket={basket} reports={drift.data?.reports ?? []} /> : null}
    </>
  );
}
