import { useState } from "react";
import type { Person } from "../../api/client";
import { KeyKind } from "../../shared/KeyKind";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { FormEnd } from "../../ui/FormEnd";
import { Input } from "../../ui/Input";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { TextArea } from "../../ui/TextArea";
import { Time } from "../../ui/Time";
import { useAddSigningKey, useRemoveSigningKey, useSigningKeys } from "./queries";

function Add({ close }: { close: () => void }) {
  const add = useAddSigningKey();
  const [name, setName] = useState("");
  const [key, setKey] = useState("");
  return (
    <Modal title="Register an SSH key" close={close}>
      <Form
        onSubmit={() => add.mutate({ name, key: key.trim().split(/\s+/).slice(0, 2).join(" ") }, { onSuccess: close })}
      >
        <p className="text-sm">
          Its public half, as a line of an authorized_keys file: ed25519, P-256, or one that a security key holds. It
          counts when an edition of the roster has it.
        </p>
        <Field label="What it is called" className="mt-3 block">
          <Input
            className="mt-0.5 block w-full"
            required
            maxLength={64}
            pattern="[A-Za-z0-9._@\-]+"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Field label="Public key" className="mt-3 block">
          <TextArea
            className="mt-0.5 block w-full font-mono text-xs"
            rows={4}
            required
            spellCheck={false}
            placeholder="ssh-ed25519 AAAA…"
            value={key}
            onChange={(e) => setKey(e.target.value)}
          />
        </Field>
        <FormEnd error={add.error} close={close} submit="Register it" disabled={add.isPending} />
      </Form>
    </Modal>
  );
}

/** The keys that people have registered to sign by, their passkeys among them. */
export function SigningKeys({ me }: { me: Person }) {
  const keys = useSigningKeys();
  const remove = useRemoveSigningKey();
  const [adding, setAdding] = useState(false);
  const items = keys.data?.items ?? [];
  return (
    <section className="mt-8" aria-labelledby="signing-keys">
      <h2 id="signing-keys" className="mb-2 font-bold">
        Registered keys
      </h2>
      <p className="mb-2 text-sm">
        Passkeys that you add under <em>You</em> are here by themselves. Whoever writes an edition of the roster
        compares fingerprints with the people first.
      </p>
      <Button onClick={() => setAdding(true)}>Register an SSH key…</Button>
      <Note error={keys.error ?? remove.error} />
      {items.length > 0 ? (
        <Table
          label="Registered keys"
          columns={["Who", "Key", "Fingerprint", "In the roster", "Last used", { name: "Actions", hidden: true }]}
        >
          {items.map((k) => (
            <tr key={k.text}>
              <td>{k.person}</td>
              <td>
                {k.name} <KeyKind kind={k.kind} />
              </td>
              <td>
                <code className="text-sm">{k.fingerprint}</code>
              </td>
              <td>{k.counts ? "yes" : "no"}</td>
              <td>{k.used ? <Time at={k.used} /> : "never"}</td>
              <td className="figure">
                {k.person === me.name && k.kind !== "webauthn" && k.id ? (
                  <Button
                    disabled={remove.isPending}
                    onClick={() => remove.mutate(k.id ?? "")}
                    aria-label={`End ${k.name}`}
                  >
                    End
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      {adding ? <Add close={() => setAdding(false)} /> : null}
    </section>
  );
}
