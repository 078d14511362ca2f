import { Field, Label, Textarea } from "@headlessui/react";
import { useState } from "react";
import { useRemark } from "./queries";
import { Button } from "../../ui/Button";
import { Note } from "../../ui/Note";
import { Form } from "../../ui/Form";

/** Room to say something of a plan, or of one of its steps. */
export function RemarkForm({
  plan,
  of,
  label,
  done,
}: {
  plan: string;
  of?: { host: string; path: string };
  label: string;
  done?: () => void;
}) {
  const remark = useRemark(plan);
  const [body, setBody] = useState("");
  return (
    <Form
      className="mt-2"
      onSubmit={() =>
        remark.mutate(
          { ...of, body },
          {
            onSuccess: () => {
              setBody("");
              done?.();
            },
          },
        )
      }
    >
      <Field>
        <Label className="text-sm">{label}</Label>
        <Textarea
          rows={2}
          maxLength={4000}
          className="mt-1 mb-2 block w-full max-w-xl rounded border border-muted bg-sheet px-3 py-2"
          value={body}
          onChange={(e) => setBody(e.target.value)}
        />
      </Field>
      <Note error={remark.error} />
      <Button type="submit" disabled={remark.isPending || body.trim() === ""}>
        Add the remark
      </Button>
    </Form>
  );
}
