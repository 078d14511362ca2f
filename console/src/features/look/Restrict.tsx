import { useState } from "react";
import { Link } from "react-router";
import type { Person, Schemas } from "../../api/client";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { addressOf } from "../../shared/wish";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { Input } from "../../ui/Input";
import { Note } from "../../ui/Note";
import { DraftOf } from "./DraftOf";
import { flagsOf, named, quoted, type Where } from "./model";
import { useAccounts, useRestriction } from "./queries";

/** Whom one of the consequences is about; nothing where it is nobody. */
function Whom({ says, who }: { says: string; who: Schemas["Parties"] }) {
  if (who.count === 0) return null;
  const more = who.count - who.names.length;
  return (
    <li>
      <span className="text-muted">{says}:</span> {who.names.join(", ")}
      {more > 0 ? ` and ${more.toLocaleString()} more` : ""}
    </li>
  );
}

/** What is to be taken away, from whom, and what of it may be gone back on. */
function Answer({ of, me }: { of: Schemas["Restriction"]; me: Person }) {
  const host = of.origin.host;
  const who = of.only.length > 0 ? `nobody but ${of.only.join(", ")}` : "nobody";
  return (
    <div className="mt-3">
      <p className="font-semibold">{of.says || `Nothing has to be taken away that ${who} can ${of.operation} it.`}</p>
      <ul className="my-1 text-sm">
        <Whom says="Cannot any more" who={of.out} />
        <Whom says="Lose something else" who={of.less} />
        <Whom says="Can all the same, by privileges or by what is decided elsewhere" who={of.left} />
        <Whom says="Perhaps: the server does not tell who is in a group" who={of.unsure} />
        <Whom says="May change permissions here, and can let themselves in again" who={of.back} />
        <Whom says="Are to, and cannot: ask what it would take" who={of.short} />
      </ul>
      {of.changes.map((c) => (
        <div key={c.path} className="mt-2">
          <code className="text-sm">{c.path}</code>
          <BeforeAfter before={c.before} after={c.after} />
        </div>
      ))}
      {host && of.wishes?.length ? (
        <>
          <p className="mt-2 text-sm">
            <Link to={addressOf(host, of.wishes)}>Compose it further…</Link>
          </p>
          <DraftOf
            paths={of.changes.map((c) => c.path)}
            text={of.text ?? ""}
            host={host}
            me={me}
            title={`Let ${who} ${of.operation} ${of.path}`}
          />
        </>
      ) : null}
    </div>
  );
}

/** What has to be taken away so that nobody but some accounts can do something. */
export function Restrict({
  where,
  path,
  operation,
  me,
}: {
  where: Where;
  path: string;
  operation: string;
  me: Person;
}) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [only, setOnly] = useState<readonly string[]>();
  const accounts = useAccounts(where);
  const found = useRestriction(where, path, only ?? [], operation, open && only !== undefined);
  return (
    <div className="mt-4">
      <Button onClick={() => setOpen(!open)} aria-expanded={open}>
        {`Nobody else should ${operation}…`}
      </Button>
      {open ? (
        <section aria-label="Nobody else" className="mt-3" aria-live="polite">
          <Form className="flex flex-wrap items-end gap-2" onSubmit={() => setOnly(named(text))}>
            <Field label={`Who alone should ${operation}`} className="min-w-0 flex-1 text-sm">
              <Input
                className="mt-0.5 block w-full"
                list="accounts-of-it"
                placeholder="names, with commas; none: nobody"
                spellCheck={false}
                value={text}
                onChange={(e) => setText(e.target.value)}
              />
              <datalist id="accounts-of-it">
                {accounts.data?.accounts?.map((a) => (
                  <option key={a} value={a} />
                ))}
              </datalist>
            </Field>
            <Button type="submit" look="strong">
              What would it take?
            </Button>
          </Form>
          <Note error={found.error} />
          {found.data ? <Answer of={found.data} me={me} /> : null}
          <Command
            text={`idletally access restrict ${operation} ${flagsOf(where)} ${quoted(path)}${named(text)
              .map((a) => ` --only ${quoted(a)}`)
              .join("")}`}
          />
        </section>
      ) : null}
    </div>
  );
}
