import { Link } from "react-router";
import type { Person } from "../../api/client";
import { flagsOf, folderOf, quoted } from "./model";
import { type Look, useLook } from "./address";
import { useSight } from "./queries";
import { useSnapshot, useSnapshotsOf } from "../snapshots/queries";
import { ChangeLink } from "../../shared/ChangeLink";
import { may, maySomewhere } from "../../shared/roles";
import { buttonLook } from "../../ui/buttonLook";
import { Command } from "../../ui/Command";
import { Crumbs } from "../../ui/Crumbs";
import { Note } from "../../ui/Note";
import { Tabs } from "../../ui/Tabs";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Begin } from "./Begin";
import { Below } from "./Below";
import { useLately } from "./useLately";
import { Content } from "./Content";
import { Fresh } from "./Fresh";
import { Permissions } from "./Permissions";
import { Source } from "./Source";
import { Times } from "./Times";
import { Try } from "./Try";
import { Who } from "./Who";
import { WhoCan } from "./WhoCan";
import { schemeOf } from "../../schemes";

function Taken({ look, id }: { look: Look; id: string }) {
  const s = useSnapshot(id).data;
  if (!s) return <p className="mt-2 text-sm text-muted">&nbsp;</p>;
  return (
    <div className="mt-2 flex flex-wrap items-baseline gap-x-4 text-sm text-muted">
      <span>
        <Link to={`/drift/${s.application}?host=${s.host}`}>{s.application}</Link> on{" "}
        <Link to={`/hosts/${s.host}`}>{s.host}</Link> as of <Time at={s.taken} />: {s.paths.toLocaleString()} paths,{" "}
        {s.gaps} not read. Root hash <code>{s.root?.slice(0, 16)}</code>
      </span>
      <Times look={look} of={s} />
    </div>
  );
}

/** Where to begin: the roots that snapshots of a host have. */
function Roots({ look, host }: { look: Look; host: string }) {
  const snaps = useSnapshotsOf({ host });
  const roots = [...new Set(snaps.data?.items?.flatMap((s) => s.roots ?? []))].sort();
  return (
    <Note>
      Say which path to look at.{" "}
      {roots.length > 0 ? `Known roots of ${host}: ` : "A host shows what its own list of roots holds."}
      {roots.map((r) => (
        <Link key={r} to={look.address({ path: r })} className="mr-3">
          <code>{r}</code>
        </Link>
      ))}
    </Note>
  );
}

function PathPart({ look, me }: { look: Look; me: Person }) {
  const sight = useSight(look.where, look.path);
  const s = sight.data;
  if (!s) return <Note error={sight.error} />;
  const tabs = [
    {
      key: "",
      name: "Permissions",
      panel: (
        <>
          {s.origin.host && maySomewhere(me, "author") ? (
            <p className="mb-2 text-right">
              <ChangeLink host={s.origin.host} paths={[s.path]} className={buttonLook("plain", "no-underline")} />
            </p>
          ) : null}
          <Permissions sight={s} />
          {s.kind === "folder" ? <Fresh look={look} path={s.path} /> : null}
        </>
      ),
    },
    { key: "who", name: "Who can", panel: <WhoCan look={look} sight={s} me={me} /> },
    ...(s.kind === "folder" ? [{ key: "below", name: "Below it", panel: <Below look={look} path={s.path} /> }] : []),
    ...(look.where.host && may(me, "operator")
      ? [
          {
            key: "try",
            name: "Try it",
            panel: (
              <Try
                key={`${look.account} ${s.path}`}
                host={look.where.host}
                account={look.account}
                path={s.path}
                share={schemeOf(s.access).remote}
              />
            ),
          },
        ]
      : []),
  ];
  return (
    <section aria-label="The path">
      <Tabs tabs={tabs} at={look.tab} go={(tab) => look.set({ tab })} />
      {look.tab === "" ? <Command text={`idletally path show ${flagsOf(look.where)} ${quoted(s.path)}`} /> : null}
    </section>
  );
}

export default function LookPage({ me }: { me: Person }) {
  const look = useLook();
  const { host, snapshot } = look.where;
  const before = useLately(look.where, look.path, me.name);
  const kind = useSight(look.where, look.path).data?.kind;
  const folder = kind === undefined ? undefined : kind === "folder" ? look.path : folderOf(look.path);
  return (
    <>
      <Title text="Look" className="mb-3" />
      <Source key={`${look.path} ${look.account}`} look={look} />
      {snapshot ? (
        <Taken look={look} id={snapshot} />
      ) : host ? (
        <p className="mt-2 text-sm text-muted">Asked of {host} itself, now.</p>
      ) : null}
      {look.account && (host ?? snapshot) ? <Who where={look.where} name={look.account} /> : null}
      {!host && !snapshot ? (
        <>
          <p className="mt-3">
            Choose a host to ask it as it is now, or a snapshot to ask what was. Paths, access entries and who can do
            what are answered alike.
          </p>
          <Begin lately={before} />
        </>
      ) : null}
      {host && !look.path ? <Roots look={look} host={host} /> : null}
      {look.path ? <Crumbs path={look.path} to={(p) => look.address({ path: p, tab: "" })} /> : null}
      {(host ?? snapshot) && (look.path || snapshot) ? (
        <div className="mt-3 grid grid-cols-1 gap-x-8 gap-y-6 lg:grid-cols-[minmax(0,5fr)_minmax(0,7fr)]">
          {look.path && folder === undefined ? (
            <div />
          ) : (
            <Content key={host ?? snapshot} look={look} folder={folder ?? ""} me={me} />
          )}
          {look.path ? <PathPart look={look} me={me} /> : null}
        </div>
      ) : null}
    </>
  );
}
