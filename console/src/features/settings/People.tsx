import { useState } from "react";
import { Link } from "react-router";
import type { Person, Schemas, Seen } from "../../api/client";
import { useWays } from "../signin/queries";
import { may } from "../../shared/roles";
import { useAddPerson, usePeople, useRemovePerson, useResetPassword, useRoles, useSetRoles } from "./queries";
import { Button } from "../../ui/Button";
import { Checks } from "../../ui/Checks";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { RoleChoice } from "./RoleChoice";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

function OneTime({
  name,
  password,
  passkeys = 0,
  close,
}: {
  name: string;
  password: string;
  passkeys?: number;
  close: () => void;
}) {
  return (
    <>
      <p>{name} signs in once with this password, and chooses another:</p>
      <p className="my-3">
        <code className="rounded bg-sheet px-3 py-2 text-lg">{password}</code>
      </p>
      <p className="text-sm text-muted">It is not shown again.</p>
      {passkeys > 0 ? (
        <Note>
          {passkeys === 1 ? "A passkey" : `${passkeys} passkeys`} of theirs {passkeys === 1 ? "goes" : "go"} on
          counting, and whoever had the password may have added some:{" "}
          <code>idletally person reset {name} --second-factor</code>
        </Note>
      ) : null}
      <DialogEnd close={close} />
    </>
  );
}

function Add({ close }: { close: () => void }) {
  const add = useAddPerson();
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState<string[]>(["viewer"]);
  const ways = useWays();
  const provider = ways.data?.provider;
  const [by, setBy] = useState<"provider"[]>([]);
  return (
    <Modal title="Add a person" close={close}>
      {add.data ? (
        <OneTime name={add.data.name} password={add.data.password} close={close} />
      ) : (
        <Form
          onSubmit={() =>
            add.mutate(
              { name: name.trim(), roles: chosen, provider: by.length > 0 },
              { onSuccess: () => by.length > 0 && close() },
            )
          }
        >
          <Field label="Name to sign in with" className="block">
            <Input
              className="mt-0.5 block w-full"
              required
              value={name}
              spellCheck={false}
              autoComplete="off"
              onChange={(e) => setName(e.target.value)}
            />
          </Field>
          <RoleChoice chosen={chosen} choose={setChosen} />
          {provider ? (
            <Checks
              legend="Signs in"
              options={[
                {
                  key: "provider" as const,
                  means: `with ${provider}, under this name there, and has no password here`,
                },
              ]}
              chosen={by}
              choose={setBy}
            />
          ) : null}
          <FormEnd error={add.error} close={close} submit="Add" disabled={add.isPending || chosen.length === 0} />
        </Form>
      )}
    </Modal>
  );
}

function Change({
  person,
  me,
  had,
  close,
}: {
  person: Person;
  me: Person;
  had: Seen<Schemas["RoleList"]>;
  close: () => void;
}) {
  const set = useSetRoles();
  const reset = useResetPassword();
  const remove = useRemovePerson();
  const [chosen, setChosen] = useState<string[]>(had.value.roles ?? []);
  const [sure, setSure] = useState(false);
  return (
    <>
      {reset.data ? (
        <OneTime name={reset.data.name} password={reset.data.password} passkeys={reset.data.passkeys} close={close} />
      ) : (
        <>
          <RoleChoice chosen={chosen} choose={setChosen} />
          <Note error={set.error ?? reset.error ?? remove.error} />
          <div className="mt-4 flex flex-wrap gap-2">
            <Button disabled={reset.isPending} onClick={() => reset.mutate(person.name)}>
              One-time password
            </Button>
            {person.name === me.name ? null : sure ? (
              <Button disabled={remove.isPending} onClick={() => remove.mutate(person.name, { onSuccess: close })}>
                Really remove {person.name}
              </Button>
            ) : (
              <Button onClick={() => setSure(true)}>Remove…</Button>
            )}
            <span className="flex-1" />
            <Button onClick={close}>Cancel</Button>
            <Button
              look="strong"
              disabled={set.isPending || chosen.length === 0}
              onClick={() => set.mutate({ name: person.name, roles: chosen, tag: had.tag }, { onSuccess: close })}
            >
              Set roles
            </Button>
          </div>
        </>
      )}
    </>
  );
}

function Changing({ person, me, close }: { person: Person; me: Person; close: () => void }) {
  const { first, error } = useRoles(person.name);
  return (
    <Modal title={person.name} close={close}>
      <Note error={error} />
      {first ? <Change person={person} me={me} had={first} close={close} /> : null}
    </Modal>
  );
}

/** Who may do what with Idle Tally itself. */
export function People({ me }: { me: Person }) {
  const admin = may(me, "admin");
  const people = usePeople(admin);
  const [doing, setDoing] = useState<{ person?: Person }>();
  if (!admin)
    return (
      <Note>
        You are {me.name}: {me.roles?.join(", ")}. Somebody with the role admin manages people.
      </Note>
    );
  const close = () => setDoing(undefined);
  return (
    <>
      <div className="mb-3">
        <Button look="strong" onClick={() => setDoing({})}>
          Add a person…
        </Button>
      </div>
      <Note error={people.error} />
      <Table label="People" columns={["Name", "Roles", "What they did", { name: "Actions", hidden: true }]}>
        {people.data?.items?.map((p) => (
          <tr key={p.name}>
            <td>{p.name}</td>
            <td>
              {p.roles?.join(", ")}
              {p.counts_from ? (
                <span className="block text-sm text-muted">
                  approvals count from <Time at={p.counts_from} /> on
                </span>
              ) : null}
              {p.second ? <span className="block text-sm text-muted">with a second factor</span> : null}
            </td>
            <td>
              <Link to={`/history?who=${p.name}`}>history</Link>
            </td>
            <td className="figure">
              <Button onClick={() => setDoing({ person: p })} aria-label={`Change ${p.name}`}>
                Change…
              </Button>
            </td>
          </tr>
        ))}
      </Table>
      {doing && !doing.person ? <Add close={close} /> : null}
      {doing?.person ? <Changing person={doing.person} me={me} close={close} /> : null}
    </>
  );
}
