import { QRCodeSVG } from "qrcode.react";
import { useState } from "react";
import type { Person } from "../../api/client";
import { useConfirmSecond, useEndSession, useProposeSecond, useRemoveSecond, useSessions } from "./queries";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { ChangePassword } from "./ChangePassword";
import { Passkeys } from "./Passkeys";
import { SignInNews } from "./SignInNews";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

function Code({ code, change }: { code: string; change: (code: string) => void }) {
  return (
    <Field label="Code that it shows" className="mt-3 block">
      <Input
        className="mt-0.5 block w-40"
        required
        minLength={6}
        maxLength={32}
        autoComplete="one-time-code"
        value={code}
        onChange={(e) => change(e.target.value)}
      />
    </Field>
  );
}

function Add({ close }: { close: () => void }) {
  const propose = useProposeSecond();
  const confirm = useConfirmSecond();
  const [code, setCode] = useState("");
  return (
    <Modal title="Sign in with a second factor" close={close}>
      {confirm.data ? (
        <>
          <p>From now on you sign in with a code of your authenticator. Your other sessions have ended.</p>
          <p className="mt-2">
            Spare codes, for when you have lost it. Each counts once; keep them where nobody else reads them:
          </p>
          <Command text={(confirm.data.codes ?? []).join("\n")} />
          <DialogEnd close={close}>I have kept them</DialogEnd>
        </>
      ) : propose.data ? (
        <Form onSubmit={() => confirm.mutate(code)}>
          <p>Have your authenticator scan this, or type the secret:</p>
          <div className="my-3 inline-block bg-white p-3">
            <QRCodeSVG value={propose.data.url} size={176} title="Address of the second factor" />
          </div>
          <Command text={propose.data.secret} />
          <Code code={code} change={setCode} />
          <FormEnd error={confirm.error} close={close} submit="Confirm" disabled={confirm.isPending} />
        </Form>
      ) : (
        <Form onSubmit={() => propose.mutate()}>
          <p>
            An authenticator on your telephone shows six digits, others every 30 seconds (RFC 6238). You are asked for
            them when you sign in, so that your password alone is of no use to who has got it.
          </p>
          <FormEnd error={propose.error} close={close} submit="Begin" disabled={propose.isPending} />
        </Form>
      )}
    </Modal>
  );
}

function Remove({ close }: { close: () => void }) {
  const remove = useRemoveSecond();
  const [code, setCode] = useState("");
  return (
    <Modal title="Do without the second factor" close={close}>
      <Form onSubmit={() => remove.mutate(code, { onSuccess: close })}>
        <p>Your password alone will be enough again.</p>
        <Code code={code} change={setCode} />
        <FormEnd error={remove.error} close={close} submit="Remove it" disabled={remove.isPending} />
      </Form>
    </Modal>
  );
}

/** How and where the person who looks signs in. */
export function You({ me }: { me: Person }) {
  const sessions = useSessions();
  const end = useEndSession();
  const [open, setOpen] = useState<"add" | "remove" | "password" | "">("");
  const items = sessions.data?.items ?? [];
  return (
    <>
      <SignInNews />
      <p className="mb-3">
        You are {me.name}: {me.roles?.join(", ")}.{" "}
        {me.second ? "You sign in with a second factor." : "Your password alone signs you in."}
      </p>
      <div className="mb-5 flex flex-wrap gap-2">
        {me.second ? (
          <Button onClick={() => setOpen("remove")}>Do without the second factor…</Button>
        ) : (
          <Button look="strong" onClick={() => setOpen("add")}>
            Add a second factor…
          </Button>
        )}
        {me.provider ? null : <Button onClick={() => setOpen("password")}>Change your password…</Button>}
        {items.length > 1 ? (
          <Button disabled={end.isPending} onClick={() => end.mutate("")}>
            Sign out everywhere but here
          </Button>
        ) : null}
      </div>
      <Note error={sessions.error ?? end.error} />
      {items.length > 0 ? (
        <Table label="Where you are signed in" columns={["With", "Since", "Until", { name: "Actions", hidden: true }]}>
          {items.map((x) => (
            <tr key={x.id}>
              <td className="max-w-md truncate" title={x.what}>
                {x.here ? "Here: " : ""}
                {x.what || "an unnamed program"}
              </td>
              <td>
                <Time at={x.since} />
              </td>
              <td>
                <Time at={x.expires} />
              </td>
              <td className="figure">
                {x.here ? null : (
                  <Button
                    disabled={end.isPending}
                    onClick={() => end.mutate(x.id)}
                    aria-label={`Sign out of ${x.what}`}
                  >
                    Sign out
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      <Command text="idletally sign-in list" />
      <Passkeys />
      {open === "add" ? <Add close={() => setOpen("")} /> : null}
      {open === "password" ? <ChangePassword close={() => setOpen("")} /> : null}
      {open === "remove" ? <Remove close={() => setOpen("")} /> : null}
    </>
  );
}
