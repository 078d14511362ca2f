import { useState } from "react";
import type { Person, Schemas } from "../../api/client";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { ProposeRoster } from "./ProposeRoster";
import { RosterPeople } from "./RosterPeople";
import { SignEdition } from "./SignEdition";
import { SigningKeys } from "./SigningKeys";
import { useRoster, useRosterStatement, useWithdrawRoster } from "./queries";

type Edition = Schemas["RosterEdition"];

function Hosts({ hosts }: { hosts: Schemas["RosterHosts"] }) {
  return (
    <p className="mt-3 text-sm">
      Of the enrolled hosts {hosts.current.toLocaleString()} act by it, {hosts.behind.toLocaleString()} by an earlier
      edition, and {hosts.without.toLocaleString()} take the service's word alone. A host is moved to the roster on the
      host itself:
    </p>
  );
}

function Lines({ says, lines }: { says: string; lines: readonly string[] }) {
  if (lines.length === 0) return null;
  return (
    <div className="mt-2 text-sm">
      <h4 className="font-semibold">{says}</h4>
      <ul>
        {lines.map((l) => (
          <li key={l} className="break-all">
            {l}
          </li>
        ))}
      </ul>
    </div>
  );
}

function Proposal({ edition, me }: { edition: Edition; me: Person }) {
  const statement = useRosterStatement();
  const withdraw = useWithdrawRoster();
  return (
    <section className="mt-4 rounded border border-line p-4">
      <h3 className="font-semibold">
        Edition {edition.edition}, proposed by {edition.proposed_by}, <Time at={edition.proposed} />
      </h3>
      <p className="text-sm">
        {edition.have} of {edition.needed} have signed that it is to count
        {edition.signed.length ? `: ${edition.signed.map((s) => s.who).join(", ")}` : ""}.
      </p>
      <Lines says="No longer" lines={edition.gone} />
      <Lines says="New" lines={edition.come} />
      <RosterPeople edition={edition} />
      <Note error={statement.error ?? withdraw.error} />
      <div className="mt-3 flex gap-2">
        <Button look="strong" disabled={statement.isPending} onClick={() => statement.mutate(edition.digest)}>
          Sign this edition…
        </Button>
        {may(me, "admin") ? (
          <Button disabled={withdraw.isPending} onClick={() => withdraw.mutate(edition.digest)}>
            Withdraw it
          </Button>
        ) : null}
      </div>
      {statement.data ? (
        <SignEdition digest={edition.digest} ask={statement.data} close={() => statement.reset()} />
      ) : null}
    </section>
  );
}

/** Who may have hosts changed, by keys of their own. */
export function Roster({ me }: { me: Person }) {
  const roster = useRoster();
  const [proposing, setProposing] = useState(false);
  const now = roster.data;
  if (!now) return <Note error={roster.error} />;
  return (
    <>
      <p className="mb-3">
        A host that knows the roster changes only what people of it have signed by keys of their own, whatever the
        service says.
      </p>
      {now.edition ? (
        <section aria-labelledby="roster-edition">
          <h2 id="roster-edition" className="font-bold">
            Edition {now.edition.edition}, which counts until <Time at={now.edition.until} />
          </h2>
          <p className="text-sm">
            <span className="text-muted">fingerprint </span>
            <code>{now.edition.digest}</code>
          </p>
          <RosterPeople edition={now.edition} />
          <Hosts hosts={now.hosts} />
          <Command text={`idletally agent roster pin roster.txt --fingerprint ${now.edition.digest}`} />
        </section>
      ) : (
        <Note>
          There is no roster: hosts take the service's word alone. When people have registered their keys below, begin
          with
          <Command text="idletally roster draft > roster.txt" />
        </Note>
      )}
      {now.proposals.map((p) => (
        <Proposal key={p.digest} edition={p} me={me} />
      ))}
      {may(me, "admin") ? (
        <p className="mt-4">
          <Button onClick={() => setProposing(true)}>Propose an edition…</Button>
        </p>
      ) : null}
      {proposing ? <ProposeRoster edition={now.edition} close={() => setProposing(false)} /> : null}
      <SigningKeys me={me} />
      <Command text="idletally roster show" />
    </>
  );
}
