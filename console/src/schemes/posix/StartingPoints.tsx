import { NameInput } from "../../shared/NameInput";
import { TallyGrid } from "../../shared/TallyGrid";
import { forms, type Form } from "../../shared/wish";
import { Choice } from "../../ui/Choice";
import { Field } from "../../ui/Field";
import type { Composed } from "../scheme";

function Picture({ of }: { of: Form }) {
  return (
    <span className="flex w-24 shrink-0 gap-2">
      {of.folders ? <TallyGrid mode={of.folders} /> : null}
      {of.files ? <TallyGrid mode={of.files} /> : null}
    </span>
  );
}

/** What people keep looking up, with a picture of what it makes of folders and of files. */
export function StartingPoints({ sight, wish, change, accounts, groups }: Composed) {
  const folder = sight.kind === "folder";
  const within = wish.depth === "all" || wish.depth === "content";
  const fitting = forms.filter((f) => (folder && !within ? f.folders : folder || f.files));
  const chosen = forms.find((f) => f.key === wish.form);
  const none = { key: "", says: "As it is", means: "nothing but what is changed below" };
  return (
    <details className="my-4" open={chosen !== undefined}>
      <summary className="cursor-pointer font-semibold">Start from…</summary>
      <Choice
        legend="Start from"
        hidden
        options={[none, ...fitting].map((f) => ({ ...f, picture: <Picture of={f} /> }))}
        chosen={wish.form ?? ""}
        choose={(key) => change({ form: key || undefined, for: undefined })}
      />
      {chosen?.of ? (
        <Field label={chosen.of === "group" ? "For the group" : "For the account"} className="mt-2 block text-sm">
          <NameInput
            className="mt-0.5 block w-56"
            names={chosen.of === "group" ? groups : accounts}
            value={wish.for?.[0] ?? ""}
            change={(name) => change({ for: name ? [name] : undefined })}
          />
        </Field>
      ) : null}
    </details>
  );
}
