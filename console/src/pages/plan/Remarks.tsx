import { Field, Label, Textarea } from "@headlessui/react";
import { useState } from "react";
import type { Plan } from "../../api/client";
import { useRemark } from "../../api/queries";
import { Button } from "../../components/Button";
import { Note } from "../../components/Note";
import { Time } from "../../components/Time";

/** What people said of a plan, and room for more. */
export function Remarks({ plan }: { plan: Plan }) {
  const remark = useRemark(plan.id);
  const [body, setBody] = useState("");
  return (
    <section className="mt-6" aria-labelledby="remarks">
      <h2 id="remarks" className="mb-1 font-bold">Remarks</h2>
      <ul className="text-sm">
        {plan.remarks?.map((r) => (
          <li key={r.author + r.at} className="border-b border-line py-1.5">
            <span className="text-muted">{r.author}, <Time at={r.at} />{r.path ? <> of <code>{r.host} {r.path}</code></> : null}</span>
            <p className="whitespace-pre-wrap">{r.body}</p>
          </li>
        ))}
      </ul>
      <form
        className="mt-2"
        onSubmit={(e) => {
          e.preventDefault();
          remark.mutate({ body }, { onSuccess: () => setBody("") });
        }}
      >
        <Field>
          <Label className="text-sm">Say something</Label>
          <Textarea rows={2} className="mt-1 mb-2 block w-full max-w-xl rounded border border-muted bg-sheet px-3 py-2" value={body} onChange={(e) => setBody(e.target.value)} />
        </Field>
        <Note error={remark.error} />
        <Button type="submit" disabled={remark.isPending || body.trim() === ""}>Add the remark</Button>
      </form>
    </section>
  );
}
