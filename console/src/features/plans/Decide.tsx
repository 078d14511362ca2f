import { Field, Label, Textarea } from "@headlessui/react";
import { useState } from "react";
import type { Plan } from "../../api/client";
import { useDecide } from "./queries";
import { Button } from "../../ui/Button";
import { Cautions } from "./Cautions";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";

/** The dialog in which somebody approves or declines another person's plan. */
export function Decide({ plan, approve, close }: { plan: Plan; approve: boolean; close: () => void }) {
  const decide = useDecide(plan.id);
  const [remark, setRemark] = useState("");
  const [words, setWords] = useState<Record<string, string>>({});
  const grave = approve ? (plan.cautions?.filter((c) => c.grave) ?? []) : [];
  const unsaid = grave.some((c) => (words[c.id]?.trim().length ?? 0) < 10);
  return (
    <Modal title={`${approve ? "Approve" : "Decline"} this plan?`} close={close}>
      <p className="mb-3 text-sm">
        {approve
          ? `What you approve is exactly these ${plan.steps.toLocaleString()} step${plan.steps === 1 ? "" : "s"}, by their digest:`
          : "The author sees your remark."}
        {approve ? <code className="mt-1 block">{plan.digest}</code> : null}
      </p>
      {grave.length ? (
        <div className="mb-4">
          <p className="text-sm font-semibold">Each grave caution needs your own word, in ten characters or more:</p>
          <Cautions cautions={grave} words={words} say={(id, word) => setWords({ ...words, [id]: word })} />
        </div>
      ) : null}
      <Field>
        <Label>Remark</Label>
        <Textarea
          rows={3}
          className="mt-1 mb-4 block w-full rounded border border-muted bg-sheet px-3 py-2"
          value={remark}
          onChange={(e) => setRemark(e.target.value)}
        />
      </Field>
      <Note error={decide.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={close}>Not now</Button>
        <Button
          look="strong"
          disabled={decide.isPending || unsaid}
          onClick={() => decide.mutate({ approve, digest: plan.digest, remark, words }, { onSuccess: close })}
        >
          {approve ? "Approve" : "Decline"}
        </Button>
      </div>
    </Modal>
  );
}
