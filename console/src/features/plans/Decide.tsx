import { Field, Label, Textarea } from "@headlessui/react";
import { useState } from "react";
import type { Plan } from "../../api/client";
import { useDecide, useStatement } from "./queries";
import { Sign } from "../../shared/Sign";
import { Button } from "../../ui/Button";
import { Cautions } from "./Cautions";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";

/** The dialog in which somebody approves or declines another person's plan. */
export function Decide({ plan, approve, close }: { plan: Plan; approve: boolean; close: () => void }) {
  const decide = useDecide(plan.id);
  const statement = useStatement(plan.id);
  const [remark, setRemark] = useState("");
  const [words, setWords] = useState<Record<string, string>>({});
  const grave = approve ? (plan.cautions?.filter((c) => c.grave) ?? []) : [];
  const decision = { approve, digest: plan.digest, remark, words };
  if (statement.data) {
    return (
      <Modal title="Sign that you approve this plan" close={close}>
        <Sign
          ask={statement.data}
          label="Sign and approve"
          command={[
            `idletally plan approve ${plan.id} --digest ${plan.digest} --sign`,
            ...grave.map((c) => `--word ${c.id}="…"`),
          ].join(" ")}
          give={(signed) => decide.mutate({ ...decision, signed }, { onSuccess: close })}
          busy={decide.isPending}
          error={decide.error}
          close={close}
        />
      </Modal>
    );
  }
  return (
    <Modal title={`${approve ? "Approve" : "Decline"} this plan?`} close={close}>
      <What plan={plan} approve={approve} />
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
      <Note error={decide.error ?? statement.error} />
      <End
        label={approve ? (plan.to_sign?.length ? "Go on to sign…" : "Approve") : "Decline"}
        disabled={decide.isPending || statement.isPending || grave.some((c) => unsaid(words[c.id]))}
        go={() =>
          approve && plan.to_sign?.length
            ? statement.mutate({ says: "approved", words })
            : decide.mutate(decision, { onSuccess: close })
        }
        close={close}
      />
    </Modal>
  );
}

function What({ plan, approve }: { plan: Plan; approve: boolean }) {
  if (!approve) return <p className="mb-3 text-sm">The author sees your remark.</p>;
  return (
    <p className="mb-3 text-sm">
      What you approve is exactly these {plan.steps.toLocaleString()} step{plan.steps === 1 ? "" : "s"}, by their
      digest:
      <code className="mt-1 block">{plan.digest}</code>
    </p>
  );
}

const unsaid = (word: string | undefined) => (word?.trim().length ?? 0) < 10;

function End({ label, disabled, go, close }: { label: string; disabled: boolean; go: () => void; close: () => void }) {
  return (
    <div className="flex justify-end gap-2">
      <Button onClick={close}>Not now</Button>
      <Button look="strong" disabled={disabled} onClick={go}>
        {label}
      </Button>
    </div>
  );
}
