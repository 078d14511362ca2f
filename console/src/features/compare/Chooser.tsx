import { useState } from "react";
import { CodeField } from "../../ui/CodeField";
import { Form } from "../../ui/Form";
import { WhereChoice } from "../look/WhereChoice";
import type { Side } from "./model";

/** Where one side of a comparison is, and which path it is. */
export function Chooser({ name, side, choose }: { name: string; side: Side; choose: (side: Side) => void }) {
  const [path, setPath] = useState(side.path);
  return (
    <Form className="grid gap-2" onSubmit={() => choose({ ...side, path: path.trim() })}>
      <WhereChoice label={name} className="text-sm" where={side} choose={(w) => choose({ ...w, path: path.trim() })} />
      <CodeField
        label={`Path of ${name.toLowerCase()}`}
        className="text-sm"
        width="w-full"
        placeholder="/srv/…; Enter looks at it"
        value={path}
        change={setPath}
      />
    </Form>
  );
}
