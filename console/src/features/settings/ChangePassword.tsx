import { useState } from "react";
import { useMe } from "../../api/queries";
import { useChangePassword } from "./queries";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { PasswordStrength } from "../../shared/PasswordStrength";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Checkbox } from "../../ui/Checkbox";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

function Password({
  label,
  value,
  change,
  fresh = false,
}: {
  label: string;
  value: string;
  change: (value: string) => void;
  fresh?: boolean;
}) {
  return (
    <Field label={label} className="mt-3 block">
      <Input
        className="mt-0.5 block w-full"
        type="password"
        required
        minLength={fresh ? 12 : 1}
        maxLength={1024}
        autoComplete={fresh ? "new-password" : "current-password"}
        value={value}
        onChange={(e) => change(e.target.value)}
      />
    </Field>
  );
}

/** Changes the password of the person who looks. */
export function ChangePassword({ close }: { close: () => void }) {
  const change = useChangePassword();
  const me = useMe();
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const [keep, setKeep] = useState(false);
  return (
    <Modal title="Change your password" close={close}>
      {change.isSuccess ? (
        <>
          <p>
            Your password is another one. Your other sessions{" "}
            {keep ? "have ended; your tokens stay good." : "and your tokens have ended."}
          </p>
          <DialogEnd close={close}>Close</DialogEnd>
        </>
      ) : (
        <Form onSubmit={() => change.mutate({ password: old, new_password: fresh, keep_tokens: keep })}>
          <Password label="Password as it is" value={old} change={setOld} />
          <Password label="New password, at least 12 characters" value={fresh} change={setFresh} fresh />
          <PasswordStrength name={me.data?.name ?? ""} password={fresh} />
          <Password label="The new one again" value={again} change={setAgain} fresh />
          <Checkbox checked={keep} onChange={(e) => setKeep(e.target.checked)} className="mt-3 flex items-center gap-2">
            My tokens stay good
          </Checkbox>
          <p className="mt-2 text-sm text-muted">
            Your other sessions end. Whoever had the old password may have made tokens, so they end too unless you keep
            them.
          </p>
          <FormEnd
            error={change.error}
            close={close}
            submit="Change it"
            disabled={change.isPending || fresh !== again}
          />
        </Form>
      )}
    </Modal>
  );
}
