import { useState } from "react";
import { NameInput } from "../../shared/NameInput";
import { Button } from "../../ui/Button";
import { Checkbox } from "../../ui/Checkbox";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { Select } from "../../ui/Select";

const rights = [
  { letter: "r", says: "read" },
  { letter: "w", says: "write" },
  { letter: "x", says: "execute" },
] as const;

/** One entry that is to be there: for whom, and what it grants. */
export function AddEntry({
  accounts,
  groups,
  folder,
  add,
}: {
  accounts: readonly string[];
  groups: readonly string[];
  folder: boolean; // there execute is to pass through, and what is in it may have it for folders alone
  add: (entry: string) => void;
}) {
  const [kind, setKind] = useState<"user" | "group">("group");
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState("r");
  const execute = folder ? "X" : "x";
  const letters = rights
    .filter((r) => chosen.includes(r.letter))
    .map((r) => (r.letter === "x" ? execute : r.letter))
    .join("");
  return (
    <Form
      className="mt-2 flex flex-wrap items-end gap-x-3 gap-y-2"
      onSubmit={() => {
        if (name.trim() === "") return;
        add(`${kind}:${name.trim()}:${letters}`);
        setName("");
      }}
    >
      <Field label="An entry for" className="text-sm">
        <Select
          className="mt-0.5 block"
          value={kind}
          onChange={(e) => setKind(e.target.value === "user" ? "user" : "group")}
        >
          <option value="group">group</option>
          <option value="user">account</option>
        </Select>
      </Field>
      <Field label="Name" className="text-sm">
        <NameInput
          className="mt-0.5 block w-40"
          names={kind === "group" ? groups : accounts}
          value={name}
          change={setName}
        />
      </Field>
      <span className="flex gap-3 pb-2 text-sm">
        {rights.map((r) => (
          <Checkbox
            key={r.letter}
            checked={chosen.includes(r.letter)}
            onChange={(e) => setChosen(e.target.checked ? chosen + r.letter : chosen.replace(r.letter, ""))}
          >
            {folder && r.letter === "x" ? "pass through" : r.says}
          </Checkbox>
        ))}
      </span>
      <Button type="submit" disabled={name.trim() === ""}>
        {letters === "" ? "Withhold" : "Grant"}
      </Button>
    </Form>
  );
}
