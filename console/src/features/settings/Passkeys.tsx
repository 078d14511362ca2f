import { useState } from "react";
import { knowsPasskeys } from "../../shared/passkeys";
import { useWays } from "../signin/queries";
import { useAddPasskey, usePasskeys, useRemovePasskey } from "./queries";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

function Add({ close }: { close: () => void }) {
  const add = useAddPasskey();
  const [name, setName] = useState("");
  if (add.data) {
    return (
      <Modal title="Add a passkey" close={close}>
        <p>From now on you sign in with it. Your other sessions have ended.</p>
        {add.data.codes?.length ? (
          <>
            <p className="mt-2">
              Spare codes, for when you have lost it, and for the command line. Each counts once; keep them where nobody
              else reads them:
            </p>
            <Command text={add.data.codes.join("\n")} />
          </>
        ) : null}
        <DialogEnd close={close}>{add.data.codes?.length ? "I have kept them" : "Done"}</DialogEnd>
      </Modal>
    );
  }
  return (
    <Modal title="Add a passkey" close={close}>
      <Form onSubmit={() => add.mutate(name.trim())}>
        <p>
          A passkey of this device, or a security key. It signs you in without a password where it asks for your finger
          or a number, and is a second factor otherwise.
        </p>
        <Field label="What it is" className="mt-3 block">
          <Input
            className="mt-0.5 block w-full"
            required
            maxLength={64}
            placeholder="key on my ring"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <FormEnd error={add.error} close={close} submit="Add it" disabled={add.isPending} />
      </Form>
    </Modal>
  );
}

/** The passkeys and security keys of the person who looks. */
export function Passkeys() {
  const keys = usePasskeys();
  const remove = useRemovePasskey();
  const ways = useWays();
  const [adding, setAdding] = useState(false);
  const items = keys.data?.items ?? [];
  if (!ways.data?.passkeys && items.length === 0) return null;
  return (
    <section className="mt-8">
      <h2 className="mb-2 font-bold">Passkeys and security keys</h2>
      {ways.data?.passkeys && knowsPasskeys() ? <Button onClick={() => setAdding(true)}>Add a passkey…</Button> : null}
      <Note error={keys.error ?? remove.error} />
      {items.length > 0 ? (
        <Table label="Passkeys" columns={["Passkey", "Since", "Last used", { name: "Actions", hidden: true }]}>
          {items.map((k) => (
            <tr key={k.id}>
              <td>{k.name}</td>
              <td>
                <Time at={k.created} />
              </td>
              <td>{k.used ? <Time at={k.used} /> : "never"}</td>
              <td className="figure">
                <Button disabled={remove.isPending} onClick={() => remove.mutate(k.id)} aria-label={`End ${k.name}`}>
                  End
                </Button>
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      {adding ? <Add close={() => setAdding(false)} /> : null}
    </section>
  );
}
