import { Link, useParams, useSearchParams } from "react-router";
import { useSearch } from "../../app/queries";
import { flagsOf, quoted, type Where } from "../look/model";
import { useAccount } from "../look/queries";
import { useDrift } from "../drift/queries";
import { useSnapshot, useSnapshotsOf } from "../snapshots/queries";
import { Command } from "../../ui/Command";
import { EffectMark } from "../../shared/EffectMark";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { WeightTree } from "./WeightTree";
import { Select } from "../../ui/Select";

const operations = ["write", "read", "execute", "create", "create-file", "create-folder", "delete", "change"];

/** What drift concerns an account, among an application's newest findings. */
function Concerns({ application, host, name }: { application: string; host: string; name: string }) {
  const drift = useDrift(application, host);
  const groups = (drift.data?.groups ?? []).filter(
    (g) => g.host === host && (g.meaning.includes(name) || g.found.includes(name) || g.declared.includes(name)),
  );
  if (!drift.data) return <Note error={drift.error} />;
  return (
    <section aria-labelledby="concerns">
      <h2 id="concerns" className="mb-1 font-bold">
        What drift changed for it
      </h2>
      {groups.length === 0 ? (
        <p className="text-muted">
          No finding of {application} on {host} is about {name}.
        </p>
      ) : null}
      <ul>
        {groups.map((g) => (
          <li key={g.id} className="border-b border-line py-1.5">
            <EffectMark word={g.word} />{" "}
            <Link to={`/drift/${application}?host=${host}`}>
              {g.count.toLocaleString()} {g.kind}
              {g.count === 1 ? "" : "s"}
            </Link>{" "}
            <code className="text-sm">{g.folder}</code>
            <span className="block text-sm text-muted">
              {g.meaning} · rule {g.rule}
              {g.since ? (
                <>
                  {" "}
                  · since <Time at={g.since} />
                </>
              ) : null}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The same account in the newest snapshots of the host, one for each application. */
function Others({ host, name, at }: { host: string; name: string; at: string }) {
  const all = useSnapshotsOf({ host }).data?.items?.filter((s) => s.state === "ready") ?? [];
  const newest = all.filter((s, i) => all.findIndex((x) => x.application === s.application) === i);
  if (newest.length < 2 && newest.every((s) => s.id === at)) return null;
  return (
    <span>
      {" "}
      · see it in{" "}
      {newest
        .filter((s) => s.id !== at)
        .map((s) => (
          <Link key={s.id} className="mr-2" to={`/accounts/${encodeURIComponent(name)}?snapshot=${s.id}`}>
            {s.application}
          </Link>
        ))}
    </span>
  );
}

/** One account: which groups it is in, what it can do where, and which rules speak of it. */
export default function AccountPage() {
  const { name = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const snapshot = search.get("snapshot") ?? "";
  const host = search.get("host") ?? "";
  const where: Where = host ? { host } : { snapshot };
  const snap = useSnapshot(snapshot).data;
  const operation = operations.includes(search.get("operation") ?? "") ? search.get("operation")! : "write";
  const account = useAccount(where, name);
  const named = useSearch(name).data?.items?.filter((h) => h.kind === "rule") ?? [];
  const a = account.data;
  const on = host || snap?.host || "";
  return (
    <>
      <Title text={`Account ${name}`} does="See what an account can do, and through which groups." className="mb-1" />
      <p className="mb-4 text-sm text-muted">
        {on ? (
          <>
            on <Link to={`/hosts/${on}`}>{on}</Link>
          </>
        ) : null}
        {snap?.taken ? (
          <>
            {" "}
            as of <Time at={snap.taken} />, in {snap.application}
          </>
        ) : host ? (
          ", as it is now"
        ) : null}
        <Others host={on} name={name} at={snapshot} />
      </p>
      {!host && !snapshot ? (
        <Note>An account is one of a host: find it with Ctrl K, or look at a path as that account.</Note>
      ) : null}
      <Note error={account.error} />
      <div className="grid grid-cols-1 gap-x-10 gap-y-6 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
        <div className="grid content-start gap-6">
          {a ? (
            <section aria-labelledby="who">
              <h2 id="who" className="mb-1 font-bold">
                Who it is
              </h2>
              <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-0.5">
                {a.id ? (
                  <>
                    <dt className="text-muted">number</dt>
                    <dd className="mono wrap-anywhere">{a.id}</dd>
                  </>
                ) : null}
                <dt className="text-muted">groups</dt>
                <dd>
                  {a.groups?.length
                    ? a.groups.map((g) => (
                        <span key={g} className="mr-2 inline-block rounded border border-line px-1.5 text-sm">
                          {g}
                        </span>
                      ))
                    : "none"}
                </dd>
              </dl>
              {a.notes?.map((n) => (
                <p key={n} className="mt-1 text-sm">
                  Note: {n}.
                </p>
              ))}
            </section>
          ) : null}
          <section aria-labelledby="named">
            <h2 id="named" className="mb-1 font-bold">
              Rules that name it
            </h2>
            {named.length === 0 ? <p className="text-muted">None of a published baseline.</p> : null}
            <ul>
              {named.map((h) => (
                <li key={`${h.application}${h.name}`} className="border-b border-line py-1.5">
                  <Link to={`/baselines/${h.application}/edit`}>{h.name}</Link>{" "}
                  <span className="text-sm text-muted">
                    of {h.application}
                    {h.detail ? ` · ${h.detail}` : ""}
                  </span>
                </li>
              ))}
            </ul>
          </section>
          {snap ? <Concerns application={snap.application} host={snap.host} name={name} /> : null}
        </div>
        {a && (snapshot || host) ? (
          <section aria-labelledby="can">
            <div className="mb-2 flex flex-wrap items-baseline gap-x-3">
              <h2 id="can" className="font-bold">
                What it can
              </h2>
              <Select
                aria-label="Operation"

                value={operation}
                onChange={(e) =>
                  setSearch({ ...Object.fromEntries(search), operation: e.target.value }, { replace: true })
                }
              >
                {operations.map((o) => (
                  <option key={o}>{o}</option>
                ))}
              </Select>
              <span className="text-sm text-muted">paths, by how many they are</span>
            </div>
            {snapshot ? (
              <WeightTree where={where} account={name} operation={operation} />
            ) : (
              <Note>
                Where it can do how much is told of snapshots: <Link to={`/hosts/${host}`}>choose one of {host}</Link>.
              </Note>
            )}
            <Command text={`idletally access below ${flagsOf(where)} ${quoted(name)} ${operation}`} />
          </section>
        ) : null}
      </div>
    </>
  );
}
