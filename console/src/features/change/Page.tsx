import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Person } from "../../api/client";
import { NameInput } from "../../shared/NameInput";
import { may } from "../../shared/roles";
import { addressOf, says, tidy, type Wish } from "../../shared/wish";
import { schemeOf } from "../../schemes";
import { Command } from "../../ui/Command";
import { Field } from "../../ui/Field";
import { Note } from "../../ui/Note";
import { Select } from "../../ui/Select";
import { Title } from "../../ui/Title";
import { useSettled } from "../../ui/useSettled";
import { Also } from "./Also";
import { Finish } from "./Finish";
import { commandOf, wishesOf } from "./model";
import { Outlook } from "./Outlook";
import { useForeseen } from "./queries";
import { Scope } from "./Scope";
import { useApplication } from "./useApplication";
import { useSeen } from "./useSeen";

function useComposed(host: string) {
  const [search, setSearch] = useSearchParams();
  const [wishes, setWishes] = useState(() => wishesOf(search));
  const [chosen, setChosen] = useState(search.get("application") ?? "");
  const settled = useSettled(wishes, 300);
  // The address keeps what is composed: it can be sent to somebody, and a reload loses nothing.
  const kept = addressOf(host, settled, chosen).slice("/change?".length);
  useEffect(() => {
    if (search.toString() !== kept) setSearch(kept, { replace: true });
  }, [kept, search, setSearch]);
  return { wishes, settled, setWishes, chosen, setChosen };
}

interface Left extends Pick<ReturnType<typeof useComposed>, "wishes" | "setWishes" | "setChosen"> {
  host: string;
  application: string;
  mine: readonly string[];
}

/** What is wished: which paths, and how they are to be. */
function Wished({ host, application, mine, wishes, setWishes, setChosen }: Left) {
  const wish = wishes[0] ?? { paths: [] };
  const also = wishes.slice(1);
  const { sight, late, error, accounts, groups } = useSeen(host, wish.paths[0] ?? "", application);
  const access = sight?.access;
  const Compose = schemeOf(access).Compose;
  const change = (part: Partial<Wish>) => setWishes([{ ...wish, ...part }, ...also]);
  return (
    <div className="min-w-0">
      {mine.length > 1 ? (
        <Field label="Application" className="mb-2 block text-sm">
          <Select className="mt-0.5 block" value={application} onChange={(e) => setChosen(e.target.value)}>
            {mine.map((a) => (
              <option key={a}>{a}</option>
            ))}
          </Select>
        </Field>
      ) : null}
      <Scope wish={wish} change={change} folder={sight?.kind === "folder"} accounts={accounts} />
      <Also wishes={also} leave={(i) => setWishes([wish, ...also.filter((_, j) => j !== i)])} />
      <Note error={error} />
      {late ? <p className="mt-2 text-sm text-muted">As it was seen last: {host} has not answered yet.</p> : null}
      {sight && access ? (
        <section aria-labelledby="wished" className="mt-5">
          <h2 id="wished" className="font-bold">
            How it is to be
          </h2>
          <Compose sight={sight} wish={wish} change={change} accounts={accounts} groups={groups} />
          <Field label="Owner" className="my-4 block max-w-72 text-sm">
            <NameInput
              names={accounts}
              placeholder={`as it is: ${access.owner}`}
              value={wish.set?.owner ?? ""}
              change={(owner) => change({ set: { ...wish.set, owner } })}
            />
          </Field>
        </section>
      ) : null}
    </div>
  );
}

/** What it would come to, and what becomes of it. */
function Outcome({
  host,
  application,
  wishes,
  late,
  me,
}: {
  host: string;
  application: string;
  wishes: readonly Wish[];
  late: boolean;
  me: Person;
}) {
  const meant = wishes.filter(says).map(tidy);
  const enabled = application !== "" && meant.length > 0;
  const foreseen = useForeseen({ application, hosts: [host], wishes: meant }, enabled);
  const shown = enabled && !foreseen.error ? foreseen.data : undefined;
  const old = late || foreseen.isPlaceholderData;
  return (
    <section aria-labelledby="outlook" className="min-w-0 lg:sticky lg:top-2 lg:max-h-[76vh] lg:overflow-y-auto">
      <h2 id="outlook" className="mb-1 font-bold">
        What it would come to
      </h2>
      <Note error={foreseen.error} />
      {enabled ? null : <p className="text-muted">Nothing is to change yet.</p>}
      {shown ? <Outlook of={shown} late={old} /> : null}
      {shown && may(me, "author", application) ? (
        <Finish application={application} host={host} foreseen={shown} ready={!old} />
      ) : null}
    </section>
  );
}

const does = "Say what is to change, see what it comes to, and draft a plan of it.";

/** Changing paths where one looks: what is wished on the left, what it would come to on the right, while one types. */
export default function ChangePage({ me }: { me: Person }) {
  const host = useSearchParams()[0].get("host") ?? "";
  const { settled, chosen, ...composed } = useComposed(host);
  const wish = composed.wishes[0] ?? { paths: [] };
  const { application, mine } = useApplication(host, wish.paths, chosen, me);
  if (!host)
    return (
      <>
        <Title text="Change" does={does} className="mb-3" />
        <Note>
          Changes begin where one looks: choose a path under <Link to="/look">Look</Link>.
        </Note>
      </>
    );
  return (
    <>
      <Title text="Change paths" does={does} className="mb-1" />
      <p className="mb-3 text-sm text-muted">
        On <Link to={`/hosts/${host}`}>{host}</Link>. Say what you want; what it would come to stands beside it, and
        nothing changes before somebody else has agreed.
      </p>
      <div className="grid grid-cols-1 gap-x-10 gap-y-6 lg:grid-cols-2">
        <Wished host={host} application={application} mine={mine} {...composed} />
        <Outcome host={host} application={application} wishes={settled} late={settled !== composed.wishes} me={me} />
      </div>
      <Command text={commandOf(application, host, tidy(wish))} />
    </>
  );
}
