import { useState } from "react";
import type { Group } from "../../api/client";
import { useWaive } from "./queries";
import { Button } from "../../ui/Button";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { TextArea } from "../../ui/TextArea";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";

const day = 24 * 60 * 60 * 1000;
const isoDate = (t: number) => new Date(t).toISOString().slice(0, 10);

/** Accepts the findings of a group for a time, with a reason. */
export function Waive({ application, group, close }: { application: string; group: Group; close: () => void }) {
  const waive = useWaive();
  const [reason, setReason] = useState("");
  const [now] = useState(() => Date.now());
  const [until, setUntil] = useState(isoDate(now + 30 * day));
  return (
    <Modal
      title={`Accept ${group.count === 1 ? "this finding" : `these ${group.count.toLocaleString()} findings`} for a time?`}
      close={close}
    >
      <p className="mb-3 text-sm">
        On {group.host}, rule {group.rule}: {group.kind} {group.aspect} <code>{group.found}</code> in{" "}
        <code>{group.count === 1 ? group.example : group.folder}</code>. They do not count until the date, are shown
        apart with your name and reason, and then come back by themselves.
      </p>
      <Form
        onSubmit={() =>
          waive.mutate(
            { application, host: group.host, group: group.id, reason, ends: `${until}T00:00:00Z` },
            { onSuccess: close },
          )
        }
      >
        <Field label="Reason" className="block mb-3">
          <TextArea
            required
            minLength={3}
            rows={3}
            className="mt-1 block w-full"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </Field>
        <Field label="Until" className="block mb-4">
          <Input
            required
            type="date"
            min={isoDate(now + day)}
            max={isoDate(now + 365 * day)}
            className="mt-1 block"
            value={until}
            onChange={(e) => setUntil(e.target.value)}
          />
        </Field>
        <Note error={waive.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={close}>Not now</Button>
          <Button type="submit" look="strong" disabled={waive.isPending}>
            Accept
          </Button>
        </div>
      </Form>
    </Modal>
  );
}
