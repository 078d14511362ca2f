import type { Schemas } from "../../api/client";
import { Field } from "../../ui/Field";
import { Input } from "../../ui/Input";

type Caution = Schemas["Caution"];

/** What the checker warns of. Of grave ones it can ask for the reviewer's own word. */
export function Cautions({
  cautions,
  words,
  say,
}: {
  cautions: readonly Caution[];
  words?: Record<string, string>;
  say?: (id: string, word: string) => void;
}) {
  return (
    <ul>
      {cautions.map((c) => (
        <li key={c.id + c.host} className="border-b border-line py-2">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <span
              className={
                c.grave ? "rounded bg-opens-wash px-1.5 text-sm font-bold text-opens" : "text-sm font-semibold"
              }
            >
              {c.grave ? <span aria-hidden="true">! </span> : null}
              {c.grave ? "grave" : "caution"} · {c.kind}
            </span>
            <code className="min-w-0">{c.count === 1 ? c.example : `${c.folder}/…`}</code>
            <span className="ml-auto text-sm text-muted">
              {c.host}
              {c.count > 1 ? ` · ${c.count.toLocaleString()} paths` : ""}
            </span>
          </div>
          <p className="mt-0.5 text-sm">{c.text.endsWith("?") ? c.text : `${c.text}.`}</p>
          <p className="text-sm text-muted">Instead: {c.instead}.</p>
          {c.grave && words?.[c.id] && !say ? <p className="text-sm">Meant all the same: “{words[c.id]}”</p> : null}
          {c.grave && say ? (
            <Field label="Why it is meant all the same" className="mt-1 block text-sm">
              <Input
                className="mt-0.5 block w-full"
                value={words?.[c.id] ?? ""}
                onChange={(e) => say(c.id, e.target.value)}
              />
            </Field>
          ) : null}
        </li>
      ))}
    </ul>
  );
}
