import { useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Person } from "../../api/client";
import { useOverview } from "../overview/queries";
import { aged, linesOf, linesOfEqual, sieveOf } from "./model";
import { useDrift, useEqual } from "./queries";
import { may } from "../../shared/roles";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Tabs } from "../../ui/Tabs";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Verdict } from "../../shared/Verdict";
import { useBasket } from "./basket";
import { BasketBar } from "./BasketBar";
import { Causes } from "./Causes";
import { Fleet } from "./Fleet";
import { Folders } from "./Folders";
import { Groups } from "./Groups";
import { HostChoice } from "./HostChoice";
import { OpenPlans } from "./OpenPlans";
import { OtherApplication } from "./OtherApplication";
import { OverTime } from "./OverTime";
import { Waivers } from "./Waivers";

/** From so many hosts on the service puts equal findings together, and tells of hosts one by one only if asked. */
const manyHosts = 12;

/** What differs from the baseline: as groups, by folder, over time, and why it comes back. */
export default function Drift({ me }: { me: Person }) {
  const { application = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const host = search.get("host") ?? "";
  const standing = useOverview().data?.applications?.find((a) => a.name === application);
  const many = !host && (standing?.hosts ?? 0) > manyHosts;
  const drift = useDrift(application, host, standing !== undefined && !many);
  const equal = useEqual(application, many);
  const lines = useMemo(
    () => (many ? linesOfEqual(equal.data?.items ?? []) : linesOf(aged(drift.data?.groups ?? []))),
    [many, equal.data, drift.data],
  );
  const every = useMemo(() => lines.flatMap((l) => l.parts), [lines]);
  const own = useBasket(application, every);
  const basket = may(me, "author", application) ? own : undefined;
  const set = (changes: Record<string, string>) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    setSearch(next, { replace: true });
  };
  const [now] = useState(() => Date.now());
  const sieve = useMemo(() => sieveOf(search, now), [search, now]);
  const reports = drift.data?.reports ?? [];
  const groups = {
    key: "",
    name: "Groups",
    panel: (
      <Groups
        application={application}
        me={me}
        lines={lines}
        reports={reports}
        looked={many ? equal.data !== undefined : reports.length > 0}
        sieve={sieve}
        set={set}
        {...(basket ? { basket } : {})}
      />
    ),
  };
  const accepted = {
    key: "waivers",
    name: "Accepted",
    panel: <Waivers application={application} host={host} me={me} />,
  };
  const tabs = [
    groups,
    {
      key: "folders",
      name: "By folder",
      panel: (
        <Folders
          reports={reports}
          groups={every}
          at={search.get("at") ?? ""}
          go={(at) => set({ at })}
          basket={basket}
        />
      ),
    },
    { key: "time", name: "Over time", panel: <OverTime application={application} host={host} /> },
    { key: "causes", name: "Coming back", panel: <Causes application={application} host={host} /> },
    accepted,
  ];
  return (
    <>
      <div className="mb-1 flex flex-wrap items-baseline gap-x-6">
        <Title
          text={`Drift of ${application}`}
          does="Sort what differs from the baseline, see why, and draft a plan that mends it."
          className=""
        />
        <Link to={`/baselines/${application}`} className="inline-block min-h-[24px] leading-[24px]">
          its baseline
        </Link>
        <OtherApplication application={application} />
      </div>
      <Note error={drift.error} />
      {drift.data ? <Verdict of={drift.data.verdict} className="mb-2" /> : null}
      <ul className="mb-3 text-sm text-muted">
        {drift.data?.hosts?.map((h) => {
          const r = reports.find((x) => x.host === h.host);
          return (
            <li key={h.host}>
              {r ? (
                <Link to={`/look?snapshot=${r.snapshot}`}>{h.host}</Link>
              ) : (
                <Link to={`/hosts/${h.host}`}>{h.host}</Link>
              )}
              :{" "}
              <span className={h.state === "declared" || h.state === "drifted" ? "" : "font-semibold text-ink"}>
                {h.says}
              </span>
              {r ? (
                <>
                  ; {r.judged.toLocaleString()} of {r.paths.toLocaleString()} paths judged by edition {r.edition},{" "}
                  {r.waived ? `${r.waived.toLocaleString()} more waived, ` : ""}looked at <Time at={h.looked} />
                </>
              ) : null}
              {r?.more_groups ? (
                <div>{r.more_groups.toLocaleString()} groups more, of less weight, are not shown here.</div>
              ) : null}
              {r?.problems?.map((p) => (
                <div key={p.message}>{p.message}</div>
              ))}
            </li>
          );
        })}
      </ul>
      <OpenPlans application={application} />
      {standing ? <HostChoice standing={standing} host={host} choose={(h) => set({ host: h, at: "" })} /> : null}
      {many && standing ? <Fleet standing={standing} equal={equal} /> : null}
      {drift.data && reports.length === 0 && (drift.data.hosts?.length ?? 0) > 0 ? (
        <Note>
          No host was looked at yet.
          <Command text={`idletally snapshot take ${application}`} />
        </Note>
      ) : null}
      <Tabs at={search.get("tab") ?? ""} go={(tab) => set({ tab })} tabs={many ? [groups, accepted] : tabs} />
      {basket ? <BasketBar application={application} basket={basket} reports={drift.data?.reports ?? []} /> : null}
    </>
  );
}
