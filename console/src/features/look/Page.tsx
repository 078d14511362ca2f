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
import { Columns } from "./Columns";
import { compareAt } from "../compare/model";
import { Content } from "./Content";
import { Copies } from "./Copies";
import { Fresh } from "./Fresh";
import { OverTime } from "./OverTime";
import { Permissions } from "./Permissions";
import { Source } from "./Source";
import { Times } from "./Times";
import { Try } from "./Try";
import { Undo } from "./Undo";
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
          <div className="mb-2 flex flex-wrap items-center justify-end gap-x-4 gap-y-1 text-sm">
            <Copies sight={s} />
            <Link to={compareAt({ ...look.where, path: s.path }, { host: s.origin.host ?? "", path: s.path })}>
              Compare…
            </Link>
            {s.origin.host && maySomewhere(me, "author") ? (
              <ChangeLink host={s.origin.host} paths={[s.path]} className={buttonLook("plain", "no-underline")} />
            ) : null}
          </div>
          {maySomewhere(me, "author") ? <Undo sight={s} /> : null}
          <Permissions sight={s} />
          {s.kind === "folder" ? <Fresh look={look} path={s.path} /> : null}
        </>
      ),
    },
    { key: "who", name: "Who can", panel: <WhoCan look={look} sight={s} me={me} /> },
    ...(s.kind === "folder" ? [{ key: "below", name: "Below it", panel: <Below look={look} path={s.path} /> }] : []),
    ...(s.origin.host
      ? [
          {
            key: "times",
            name: "Over time",
            panel: <OverTime host={s.origin.host} path={s.path} author={maySomewhere(me, "author")} />,
          },
        ]
      : []),
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
      <Title text="Look" does="Find a path, see who can do what with it and why, and change it." className="mb-3" />
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
        <Columns
          key={host ?? snapshot}
          look={look}
          folder={look.path ? folder : ""}
          content={look.path && folder === undefined ? <div /> : <Content look={look} folder={folder ?? ""} me={me} />}
        >
          {look.path ? <PathPart look={look} me={me} /> : null}
        </Columns>
      ) : null}
    </>
  );
}
