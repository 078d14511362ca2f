import type { Wish } from "../../shared/wish";
import { Choice } from "../../ui/Choice";
import { OwnGrants } from "../parts/OwnGrants";
import type { Composed } from "../scheme";

const ways: readonly { key: NonNullable<Wish["inherits"]> | ""; says: string; means: string }[] = [
  { key: "", says: "as it is", means: "" },
  { key: "from above", says: "take entries from above", means: "what the folder above passes on counts here again" },
  { key: "stopped", says: "stop, and keep", means: "what came down becomes its own" },
  { key: "stopped and emptied", says: "stop, and drop", means: "what came down goes" },
];

/** Whether entries are taken from above, and which own ones there are to be. */
export function Compose(of: Composed) {
  const { sight, wish, change } = of;
  const folder = sight.kind === "folder";
  const own = (sight.entries ?? []).filter((e) => e.origin === "set here");
  return (
    <>
      <Choice
        legend="Inheritance"
        options={ways.map((w) => (w.key === "" ? { ...w, means: `which is: ${sight.access?.inheritance ?? ""}` } : w))}
        chosen={wish.inherits ?? ""}
        choose={(key) => change({ inherits: key || undefined })}
      />
      {folder ? (
        <p className="mt-1 mb-4">
          <button
            type="button"
            className="cursor-pointer text-sm underline"
            onClick={() => change({ depth: "content", inherits: "from above", grants: { none: true }, set: undefined })}
          >
            Reset what is below it: everything there takes entries from above and has none of its own
          </button>
        </p>
      ) : null}
      <OwnGrants of={of} lines={own} />
    </>
  );
}
