import { useState } from "react";
import type { Person, Schemas, Seen } from "../../api/client";
import { useOverview } from "../overview/queries";
import { useReviewers, useSetReviewers } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Note } from "../../ui/Note";
import { Input } from "../../ui/Input";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";

function Needed({
  application,
  had,
  set,
}: {
  application: string;
  had: Seen<Schemas["ReviewRule"]>;
  set: ReturnType<typeof useSetReviewers>;
}) {
  const [reviewers, setReviewers] = useState(had.value.reviewers);
  const [editions, setEditions] = useState(had.value.editions ?? 0);
  return (
    <Form
      className="flex flex-wrap items-end gap-3"
      onSubmit={() => set.mutate({ name: application, reviewers, editions, tag: had.tag })}
    >
      <Field label="are approved by so many" className="text-sm">
        <Input
          type="number"
          min={1}
          max={9}
          className="mt-0.5 block w-24"
          value={reviewers}
          onChange={(e) => setReviewers(e.target.valueAsNumber || 1)}
        />
      </Field>
      <Field label="and so many agree before an edition is published" className="text-sm">
        <Input
          type="number"
          min={0}
          max={9}
          className="mt-0.5 block w-24"
          value={editions}
          onChange={(e) => setEditions(e.target.valueAsNumber || 0)}
        />
      </Field>
      <Button type="submit" look="strong" disabled={set.isPending}>
        Set it
      </Button>
    </Form>
  );
}

/** How many people have to approve the plans of an application. */
export function Reviews({ me }: { me: Person }) {
  const overview = useOverview();
  const set = useSetReviewers();
  const [name, setName] = useState("");
  const applications = overview.data?.applications ?? [];
  const of = name || applications[0]?.name || "";
  const now = useReviewers(of);
  if (!may(me, "admin"))
    return <Note>One other person approves a plan, unless an admin wants more for an application.</Note>;
  return (
    <div className="flex flex-wrap items-end gap-3">
      <Field label="Plans of" className="text-sm">
        <Select
          className="mt-0.5 block"
          value={of}
          onChange={(e) => {
            set.reset();
            setName(e.target.value);
          }}
        >
          {applications.map((a) => (
            <option key={a.name}>{a.name}</option>
          ))}
        </Select>
      </Field>
      {now.data ? <Needed key={`${of} ${now.data.tag}`} application={of} had={now.data} set={set} /> : null}
      {set.isSuccess ? (
        <span role="status" className="pb-2 text-sm">
          It counts from now on.
        </span>
      ) : null}
      <Note error={set.error ?? now.error} />
    </div>
  );
}
