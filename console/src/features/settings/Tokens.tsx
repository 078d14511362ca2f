import { useState } from "react";
import type { Person } from "../../api/client";
import { useAddToken, useRemoveToken, useTokens } from "./queries";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Checks } from "../../ui/Checks";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

const possible = ["viewer", "author", "operator"];

/** What a token can be given: of all that its person has, what needs no own eyes. */
const givable = (me: Person) => [
  "viewer",
  ...(me.roles ?? []).filter((r) => r !== "viewer" && possible.includes(r.split("@", 1)[0] ?? "")),
];

function Add({ me, close }: { me: Person; close: () => void }) {
  const add = useAddToken();
  const [name, setName] = useState("");
  const [days, setDays] = useState(90);
  const [roles, setRoles] = useState<string[]>(["viewer"]);
  return (
    <Modal title="Make a token" close={close}>
      {add.data ? (
        <>
          <p>
            For {add.data.name}, good until <Time at={add.data.expires} />:
          </p>
          <Command text={add.data.secret} />
          <p className="text-sm text-muted">
            It is not shown again. A program has it in IDLETALLY_TOKEN, the address in IDLETALLY_ADDRESS, and the file
            with the service’s authority in IDLETALLY_AUTHORITY.
          </p>
          <DialogEnd close={close} />
        </>
      ) : (
        <Form onSubmit={() => add.mutate({ name: name.trim(), days, roles })}>
          <Field label="What it is for" className="block">
            <Input
              className="mt-0.5 block w-full"
              required
              maxLength={64}
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </Field>
          <Field label="Good for so many days" className="mt-3 block">
            <Input
              type="number"
              min={1}
              max={400}
              className="mt-0.5 block w-28"
              value={days}
              onChange={(e) => setDays(e.target.valueAsNumber || 1)}
            />
          </Field>
          <Checks
            inline
            legend="Roles"
            options={givable(me).map((key) => ({ key }))}
            chosen={roles}
            choose={setRoles}
          />
          <FormEnd error={add.error} close={close} submit="Make it" disabled={add.isPending || roles.length === 0} />
        </Form>
      )}
    </Modal>
  );
}

/** What programs sign in with. */
export function Tokens({ me }: { me: Person }) {
  const tokens = useTokens();
  const remove = useRemoveToken();
  const [adding, setAdding] = useState(false);
  const items = tokens.data?.items ?? [];
  return (
    <>
      <div className="mb-3">
        <Button look="strong" onClick={() => setAdding(true)}>
          Make a token…
        </Button>
      </div>
      <Note error={tokens.error ?? remove.error} />
      {tokens.data && items.length === 0 ? (
        <Note>
          No token yet. A program that asks or does something for you, such as a nightly report, signs in with one.
        </Note>
      ) : null}
      {items.length > 0 ? (
        <Table
          label="Tokens"
          columns={["For", "Person", "Roles", "Good until", "Last used", { name: "Actions", hidden: true }]}
        >
          {items.map((t) => (
            <tr key={t.id}>
              <td>{t.name}</td>
              <td>{t.person}</td>
              <td>{t.roles?.join(", ")}</td>
              <td>
                <Time at={t.expires} />
              </td>
              <td>
                <Time at={t.used} />
              </td>
              <td className="figure">
                <Button disabled={remove.isPending} onClick={() => remove.mutate(t.id)} aria-label={`End ${t.name}`}>
                  End
                </Button>
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      <Command text="idletally token list" />
      {adding ? <Add me={me} close={() => setAdding(false)} /> : null}
    </>
  );
}
