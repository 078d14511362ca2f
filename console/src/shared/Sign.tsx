import { useMutation } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import { type Signed, signByPasskey } from "./signing";
import { Button } from "../ui/Button";
import { Command } from "../ui/Command";
import { Note } from "../ui/Note";

/** The text that somebody is to sign, and the ways to sign it: by a passkey here, or by a key of the command line. */
export function Sign({
  ask,
  label,
  command,
  give,
  busy,
  error,
  close,
}: {
  ask: Schemas["ToSign"];
  label: string;
  command: string;
  give: (signed: Signed) => void;
  busy: boolean;
  error: Error | null;
  close: () => void;
}) {
  const sign = useMutation({ mutationFn: () => signByPasskey(ask), onSuccess: give });
  const here = ask.passkeys.length > 0;
  return (
    <>
      <p className="text-sm">You sign this text, and nothing else:</p>
      <pre
        aria-label="What you sign"
        tabIndex={0}
        className="my-2 max-h-72 overflow-auto rounded border border-line bg-sheet p-3 text-xs break-all whitespace-pre-wrap"
      >
        {ask.statement}
      </pre>
      {here ? null : (
        <Note>
          {ask.keys.length
            ? `The roster has no passkey of yours, and these keys: ${ask.keys.map((k) => k.name).join(", ")}. Sign by one of them from the command line.`
            : "The roster has no key of yours."}
        </Note>
      )}
      {ask.keys.length ? <Command text={command} /> : null}
      <Note error={sign.error ?? error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Not now</Button>
        {here ? (
          <Button look="strong" disabled={sign.isPending || busy} onClick={() => sign.mutate()}>
            {label}
          </Button>
        ) : null}
      </div>
    </>
  );
}
