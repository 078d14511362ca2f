import { useEffect, useState } from "react";
import { type Person, confirmBy } from "../api/client";
import { knowsPasskeys } from "./passkeys";
import { useConfirm, useConfirmByPasskey, usePasskeys } from "../features/settings/queries";
import { Button } from "../ui/Button";
import { FormEnd } from "../ui/FormEnd";
import { Modal } from "../ui/Modal";
import { Input } from "../ui/Input";
import { Field } from "../ui/Field";
import { Form } from "../ui/Form";

type Answer = (did: boolean) => void;

function Ask({ me, answer }: { me: Person; answer: Answer }) {
  const confirm = useConfirm();
  const passkey = useConfirmByPasskey();
  const keys = usePasskeys();
  const [byCode, setByCode] = useState(me.provider);
  const [text, setText] = useState("");
  if (me.provider && !me.second) {
    return (
      <>
        <p>This takes that you have just signed in. Sign in with the provider again, then do it once more.</p>
        <p className="mt-3">
          <a className="underline" href="/api/v1/sign-in/provider?again">
            Sign in again
          </a>
        </p>
      </>
    );
  }
  return (
    <Form
      onSubmit={(e) => {
        e.stopPropagation();
        confirm.mutate(byCode ? { code: text } : { password: text }, { onSuccess: () => answer(true) });
      }}
    >
      <p>
        Changes of people, tokens, second factors, hooks and rules take that you show again who you are. That is good
        for ten minutes.
      </p>
      <Field label={byCode ? "Code of your authenticator, or one to spare" : "Your password"} className="mt-3 block">
        <Input
          className="mt-0.5 block w-full"
          autoFocus
          required
          key={String(byCode)}
          type={byCode ? "text" : "password"}
          autoComplete={byCode ? "one-time-code" : "current-password"}
          maxLength={byCode ? 32 : 1024}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </Field>
      {me.second && !me.provider ? (
        <button
          type="button"
          className="mt-2 cursor-pointer text-sm underline"
          onClick={() => {
            setText("");
            setByCode(!byCode);
          }}
        >
          {byCode ? "By your password instead" : "By a code instead"}
        </button>
      ) : null}
      {keys.data?.items?.length && knowsPasskeys() ? (
        <p className="mt-2">
          <Button
            disabled={passkey.isPending}
            onClick={() => passkey.mutate(undefined, { onSuccess: () => answer(true) })}
          >
            Use a passkey
          </Button>
        </p>
      ) : null}
      <FormEnd
        error={confirm.error ?? passkey.error}
        close={() => answer(false)}
        submit="Go on"
        disabled={confirm.isPending}
      />
    </Form>
  );
}

/** Asks people to show again who they are, when a call takes that. */
export function Confirm({ me }: { me: Person }) {
  const [answer, setAnswer] = useState<{ give: Answer }>();
  useEffect(() => {
    let asked: Promise<boolean> | undefined; // several calls at once ask once
    confirmBy(() => {
      asked ??= new Promise<boolean>((give) => setAnswer({ give })).finally(() => {
        asked = undefined;
        setAnswer(undefined);
      });
      return asked;
    });
    return () => confirmBy(undefined);
  }, []);
  if (!answer) return null;
  return (
    <Modal title="Is it still you?" close={() => answer.give(false)}>
      <Ask me={me} answer={answer.give} />
    </Modal>
  );
}
