import { give, take } from "../../shared/wish";
import { Checkbox } from "../../ui/Checkbox";
import { NameInput } from "../../shared/NameInput";
import { Field } from "../../ui/Field";
import { Meant } from "../parts/Meant";
import { TakeAway } from "../parts/TakeAway";
import { Modes } from "../parts/Modes";
import type { Composed } from "../scheme";
import { AddEntry } from "./AddEntry";
import { StartingPoints } from "./StartingPoints";

/** Whose entry it is, as a change names it; undefined for those that follow from the mode. */
function named(text: string): string | undefined {
  const [kind, name] = text.split(":");
  return name && (kind === "user" || kind === "group") ? `${kind}:${name}` : undefined;
}

/** Owning group, modes, and access entries, for now and for what comes later. */
export function Compose(of: Composed) {
  const { sight, wish, change, accounts, groups } = of;
  const folder = sight.kind === "folder";
  const entries = (sight.access?.entries ?? []).flatMap((text) => {
    const who = named(text);
    return who ? [{ who, says: <code>{text}</code> }] : [];
  });
  return (
    <>
      <StartingPoints {...of} />
      <Modes {...of} />
      <section aria-labelledby="entries" className="my-4">
        <h3 id="entries" className="font-semibold">
          Access entries
        </h3>
        {entries.length === 0 ? <p className="text-sm text-muted">It has none beyond its mode.</p> : null}
        <TakeAway
          entries={entries}
          gone={wish.entries?.without}
          take={(who) => change({ entries: take(wish.entries, who) })}
        />
        <Meant of={wish.entries} change={(next) => change({ entries: next })} />
        <AddEntry
          accounts={accounts}
          groups={groups}
          folder={folder}
          add={(entry) => change({ entries: give(wish.entries, entry) })}
        />
        <div className="mt-2 flex flex-wrap gap-x-6 gap-y-1 text-sm">
          <Checkbox
            checked={wish.entries?.none ?? false}
            onChange={(e) => change({ entries: { ...wish.entries, none: e.target.checked } })}
          >
            no other entries than these
          </Checkbox>
          {folder ? (
            <Checkbox checked={wish.later ?? false} onChange={(e) => change({ later: e.target.checked })}>
              also for what comes later (default entries)
            </Checkbox>
          ) : null}
        </div>
      </section>
      <Field label="Owning group" className="my-4 block max-w-72 text-sm">
        <NameInput
          names={groups}
          placeholder={`as it is: ${sight.access?.group ?? ""}`}
          value={wish.set?.group ?? ""}
          change={(group) => change({ set: { ...wish.set, group } })}
        />
      </Field>
    </>
  );
}
