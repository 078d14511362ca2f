import { Field, Input, Label } from "@headlessui/react";
import { useState } from "react";
import { Link } from "react-router";
import { Problem } from "../../api/client";
import { knowsPasskeys } from "../../shared/passkeys";
import { useSignIn, useSignInByPasskey, useWays } from "./queries";
import { Button } from "../../ui/Button";
import { Note } from "../../ui/Note";
import { PasswordStrength } from "../../shared/PasswordStrength";
import { Form } from "../../ui/Form";

const box = "mt-1 block w-full rounded border border-muted bg-sheet px-3 py-2";

export function SignIn() {
  const signIn = useSignIn();
  const ways = useWays();
  const passkey = useSignInByPasskey();
  const byPasskey = ways.data?.passkeys && knowsPasskeys();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [fresh, setFresh] = useState("");
  const [code, setCode] = useState("");
  const refused = signIn.error instanceof Problem ? signIn.error : undefined;
  const wantsCode = code !== "" || (refused?.status === 403 && refused.message.includes("second factor"));
  const oneTime = fresh !== "" || (refused?.status === 403 && !wantsCode) || refused?.status === 422;
  return (
    <main className="mx-auto max-w-sm px-4 pt-[12vh]">
      <h1 className="mb-1 flex items-center gap-3 font-bold">
        <img src="/tally.svg" alt="" width="32" height="32" />
        Idle Tally
      </h1>
      <p className="mb-8 text-muted">Permissions as they were meant to be.</p>
      <Form
        onSubmit={() => {
          passkey.reset();
          signIn.mutate({ name, password, ...(fresh ? { new_password: fresh } : {}), ...(code ? { code } : {}) });
        }}
      >
        <Field className="mb-4">
          <Label>Name</Label>
          <Input
            required
            autoComplete="username"
            autoFocus
            className={box}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Field className="mb-4">
          <Label>Password</Label>
          <Input
            required
            type="password"
            autoComplete="current-password"
            className={box}
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
        {oneTime ? (
          <Field className="mb-4">
            <Label>New password, at least 12 characters</Label>
            <Input
              required
              type="password"
              autoComplete="new-password"
              minLength={12}
              className={box}
              value={fresh}
              onChange={(e) => setFresh(e.target.value)}
            />
            <PasswordStrength name={name} password={fresh} />
          </Field>
        ) : null}
        {wantsCode ? (
          <Field className="mb-4">
            <Label>Code of your authenticator, or one to spare</Label>
            <Input
              required
              autoFocus
              inputMode="text"
              autoComplete="one-time-code"
              maxLength={32}
              className={box}
              value={code}
              onChange={(e) => setCode(e.target.value)}
            />
          </Field>
        ) : null}
        <Button look="strong" type="submit" disabled={signIn.isPending}>
          Sign in
        </Button>
        {byPasskey && wantsCode ? (
          <Button className="ml-2" disabled={passkey.isPending} onClick={() => passkey.mutate({ name, password })}>
            Use a passkey
          </Button>
        ) : null}
        <Note error={passkey.error ?? signIn.error} />
      </Form>
      {byPasskey && !wantsCode ? (
        <p className="mt-6">
          <Button disabled={passkey.isPending} onClick={() => passkey.mutate({})}>
            Sign in with a passkey
          </Button>
        </p>
      ) : null}
      {ways.data?.provider ? (
        <p className="mt-6">
          <a className="underline" href="/api/v1/sign-in/provider">
            Sign in with {ways.data.provider}
          </a>
        </p>
      ) : null}
      <p className="mt-10 text-sm">
        <Link to="/calculate">Explain and convert modes</Link>, without signing in
      </p>
    </main>
  );
}
