import { Link } from "react-router";
import { useOverview } from "./queries";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Title } from "../../ui/Title";
import { TrendChart } from "../../shared/TrendChart";
import { Needs } from "./Needs";
import { Standing } from "./Standing";

const does = "See what needs somebody now, and how each application stands on its hosts.";

/** What needs somebody now, and how everything stands. */
export default function Overview() {
  const overview = useOverview();
  const v = overview.data;
  if (!v)
    return (
      <>
        <Title text="Overview" does={does} />
        <Note error={overview.error} />
      </>
    );
  const drift = (v.days ?? []).some((d) => d.findings > 0);
  return (
    <>
      <Title text="Overview" does={does} />
      <div className="grid grid-cols-1 gap-x-10 gap-y-8 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <section aria-labelledby="needs">
          <h2 id="needs" className="mb-2 font-bold">
            What needs somebody
          </h2>
          <Needs needs={v.needs ?? []} more={v.more ?? 0} />
        </section>
        <section aria-labelledby="days">
          <h2 id="days" className="mb-2 font-bold">
            Fourteen days
          </h2>
          {drift && v.days.length > 1 ? (
            <TrendChart
              of="all hosts"
              points={v.days.map((d) => ({ ...d, at: `${d.day}T12:00:00Z`, report: d.day, edition: 0 }))}
            />
          ) : drift ? (
            <p className="text-muted">Since today: how it goes shows from tomorrow on.</p>
          ) : (
            <p className="text-muted">No drift in these days.</p>
          )}
          <p className="mt-2 text-sm">
            <Link to="/settings">
              {v.hosts.all.toLocaleString()} {v.hosts.all === 1 ? "host" : "hosts"}
            </Link>
            : {v.hosts.enrolled.toLocaleString()} enrolled, {v.hosts.watching.toLocaleString()} watched
            {v.hosts.unseen ? (
              <>
                , <strong>{v.hosts.unseen.toLocaleString()} silent</strong>
              </>
            ) : (
              ", all of them call"
            )}
            .
          </p>
        </section>
      </div>
      <section aria-labelledby="applications" className="mt-8">
        <h2 id="applications" className="mb-1 font-bold">
          Applications
        </h2>
        {v.applications?.length === 0 ? (
          <Note>
            {v.hosts.all === 0 ? (
              <>
                Nothing is here yet. First, <Link to="/settings">enrol a host</Link>; then write a baseline, and upload
                it:
              </>
            ) : (
              "Nothing is declared yet. Write a baseline, and upload it:"
            )}
            <Command text="idletally baseline upload FILE" />
          </Note>
        ) : null}
        <p className="mb-1 text-sm text-muted" aria-hidden="true">
          ▲ opens · ▼ closes · ◆ both · ▪ neither · “·” as declared · ◌ nothing found, part unread · ? not known as of
          now · ○ never looked at
        </p>
        <ul>
          {v.applications?.map((a) => (
            <Standing key={a.name} of={a} />
          ))}
        </ul>
      </section>
      <Command text="idletally overview" />
    </>
  );
}
