import { useState } from "react";
import { NameInput } from "../../shared/NameInput";
import type { Wish } from "../../shared/wish";
import { CodeField } from "../../ui/CodeField";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { Button } from "../../ui/Button";
import { Select } from "../../ui/Select";

const depths: readonly { key: NonNullable<Wish["depth"]>; says: string }[] = [
  { key: "itself", says: "the path itself" },
  { key: "all", says: "with all that is in it" },
  { key: "content", says: "only what is in it" },
];

interface Part {
  wish: Wish;
  change: (part: Partial<Wish>) => void;
}

function Paths({ wish, change }: Part) {
  return (
    <ul>
      {wish.paths.map((p) => (
        <li key={p} className="flex items-baseline gap-2 py-0.5">
          <code className="min-w-0 break-all">{p}</code>
          {wish.paths.length > 1 ? (
            <button
              type="button"
              className="ml-auto cursor-pointer px-1 text-sm underline"
              aria-label={`Leave ${p} out`}
              onClick={() => change({ paths: wish.paths.filter((x) => x !== p) })}
            >
              leave out
            </button>
          ) : null}
        </li>
      ))}
    </ul>
  );
}

function Another({ wish, change }: Part) {
  const [another, setAnother] = useState("");
  return (
    <Form
      className="mt-2 flex flex-wrap items-end gap-2"
      onSubmit={() => {
        const p = another.trim();
        if (p !== "" && !wish.paths.includes(p)) change({ paths: [...wish.paths, p] });
        setAnother("");
      }}
    >
      <CodeField
        label={wish.paths.length > 0 ? "Another path" : "Path"}
        className="min-w-40 flex-1 text-sm"
        width="w-full"
        placeholder="/srv/…"
        value={another}
        change={setAnother}
      />
      <Button type="submit" disabled={another.trim() === ""}>
        Add
      </Button>
    </Form>
  );
}

/** Which paths are meant: these, how far below them, and only where they are so now. */
export function Scope({ wish, change, folder, accounts }: Part & { folder: boolean; accounts: readonly string[] }) {
  return (
    <section aria-labelledby="scope">
      <h2 id="scope" className="font-bold">
        Which paths
      </h2>
      <Paths wish={wish} change={change} />
      <div className="mt-2 flex flex-wrap items-end gap-x-3 gap-y-2">
        {folder ? (
          <>
            <Field label="How far" className="text-sm">
              <Select
                className="mt-0.5 block"
                value={wish.depth ?? "itself"}
                onChange={(e) => change({ depth: depths.find((d) => d.key === e.target.value)?.key })}
              >
                {depths.map((d) => (
                  <option key={d.key} value={d.key}>
                    {d.says}
                  </option>
                ))}
              </Select>
            </Field>
            <Field label="Of what kind" className="text-sm">
              <Select
                className="mt-0.5 block"
                value={wish.only?.[0] ?? ""}
                onChange={(e) => change({ only: e.target.value ? [e.target.value] : undefined })}
              >
                <option value="">all</option>
                <option value="file">files</option>
                <option value="folder">folders</option>
                <option value="executable">programs</option>
              </Select>
            </Field>
            <Field label="Only what this account owns" className="text-sm">
              <NameInput
                className="mt-0.5 block w-40"
                names={accounts}
                placeholder="whoever"
                value={wish.where?.owner ?? ""}
                change={(owner) => change({ where: { ...wish.where, owner } })}
              />
            </Field>
          </>
        ) : null}
      </div>
      {wish.paths.length === 0 ? (
        <Another wish={wish} change={change} />
      ) : (
        <details className="mt-1">
          <summary className="cursor-pointer text-sm">More paths…</summary>
          <Another wish={wish} change={change} />
        </details>
      )}
    </section>
  );
}
