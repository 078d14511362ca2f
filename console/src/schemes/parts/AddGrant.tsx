import { useState } from "react";
import { NameInput } from "../../shared/NameInput";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { Select } from "../../ui/Select";

const sets = ["read", "read, execute", "read, write", "read, write, execute, delete", "full"] as const;

const extents = [
  { key: "", says: "here and all below" },
  { key: "here", says: "only here" },
  { key: "here, folders", says: "here and the folders below" },
  { key: "here, files", says: "here and the files below" },
  { key: "folders, files", says: "only what is below" },
] as const;

/** One own entry that is to be there: who is allowed or denied what, and how far it goes. */
export function AddGrant({
  names,
  folder,
  add,
}: {
  names: readonly string[];
  folder: boolean;
  add: (entry: string) => void;
}) {
  const [kind, setKind] = useState("allow");
  const [name, setName] = useState("");
  const [rights, setRights] = useState<string>(sets[0]);
  const [extent, setExtent] = useState("");
  return (
    <Form
      className="mt-2 flex flex-wrap items-end gap-x-3 gap-y-2"
      onSubmit={() => {
        if (name.trim() === "") return;
        add(`${kind} ${name.trim()}: ${rights.trim()}${folder && extent ? `; reaches ${extent}` : ""}`);
        setName("");
      }}
    >
      <Field label="An entry that" className="text-sm">
        <Select className="mt-0.5 block" value={kind} onChange={(e) => setKind(e.target.value)}>
          <option value="allow">allows</option>
          <option value="deny">denies</option>
        </Select>
      </Field>
      <Field label="Whom" className="text-sm">
        <NameInput className="mt-0.5 block w-40" names={names} value={name} change={setName} />
      </Field>
      <Field label="Named or single rights" className="text-sm">
        <NameInput className="mt-0.5 block w-64" names={sets} value={rights} change={setRights} />
      </Field>
      {folder ? (
        <Field label="Applies" className="text-sm">
          <Select className="mt-0.5 block" value={extent} onChange={(e) => setExtent(e.target.value)}>
            {extents.map((x) => (
              <option key={x.key} value={x.key}>
                {x.says}
              </option>
            ))}
          </Select>
        </Field>
      ) : null}
      <Button type="submit" disabled={name.trim() === "" || rights.trim() === ""}>
        {kind === "deny" ? "Deny" : "Allow"}
      </Button>
    </Form>
  );
}
