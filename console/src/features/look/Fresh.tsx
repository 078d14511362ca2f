import { useState } from "react";
import { flagsOf, quoted } from "./model";
import { useFresh } from "./queries";
import type { Look } from "./address";
import { Command } from "../../ui/Command";
import { Made } from "../../shared/Made";
import { Note } from "../../ui/Note";
import { useSettled } from "../../ui/useSettled";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";

/** What an account's new files and folders get in this folder. */
export function Fresh({ look, path }: { look: Look; path: string }) {
  const [umask, setUmask] = useState("0022");
  const fresh = useFresh(look.where, path, look.account, useSettled(umask.trim()));
  const f = fresh.data;
  return (
    <section aria-labelledby="fresh" className="mt-6">
      <h3 id="fresh" className="mb-1 font-semibold">
        What is made in it
      </h3>
      {look.account && look.account !== "everyone" ? (
        <>
          <Field label={<>by {look.account}, under the umask</>} className="text-sm">
            <Input
              className="mono mt-0.5 block w-24"
              spellCheck={false}
              value={umask}
              onChange={(e) => setUmask(e.target.value)}
            />
          </Field>
          <Note error={fresh.error} />
          {f?.refused ? (
            <p className="my-2">
              {look.account} cannot make anything here: {f.refused}.
            </p>
          ) : null}
          {f && !fresh.error ? <Made made={f.made ?? []} /> : null}
          <Command
            text={`idletally path new ${flagsOf(look.where)} ${quoted(path)} --by ${quoted(look.account)} --umask ${quoted(umask)}`}
          />
        </>
      ) : (
        <p className="text-sm text-muted">Choose an account above to see what its new files and folders get.</p>
      )}
    </section>
  );
}
