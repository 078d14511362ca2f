import { Field, Label, Textarea } from "@headlessui/react";
import { useState } from "react";
import type { Plan } from "../../api/client";
import { useDecide, useStatement, type Verdict } from "./queries";
import { Sign } from "../../shared/Sign";
import { Button } from "../../ui/Button";
import { Cautions } from "./Cautions";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";

const words = {
  approve: {
    title: "Approve this plan?",
    sign: "Sign that you approve this plan",
    signed: "Sign and approve",
    done: "Approve",
    remark: "Remark",
  },
  alone: {
    title: "Approve this plan alone?",
    sign: "Sign that you act alone",
    signed: "Sign and approve alone",
    done: "",
    remark: "Why it cannot wait for somebody else",
  },
  decline: { title: "Decline this plan?", sign: "", signed: "", done: "Decline", remark: "Remark" },
};

/** The dialog in which somebody approves or declines a plan. */
export function Decide({ plan, verdict, close }: { plan: Plan; verdict: Verdict; close: () => void }) {
  const decide = useDecide(plan.id);
  const statement = useStatement(plan.id);
  const [remark, setRemark] = useState("");
  const [said, setSaid] = useState<Record<string, string>>({});
  const alone = verdict === "alone";
  const signs = signed(plan, verdict);
  const grave = verdict === "decline" ? [] : (plan.cautions?.filter((c) => c.grave) ?? []);
  const decision = { verdict, digest: plan.digest, remark, words: said };
  const text = words[verdict];
  if (statement.data) {
    return (
      <Modal title={text.sign} close={close}>
        <Sign
          ask={statement.data}
          label={text.signed}
          command={[
            `idletally plan approve ${plan.id} --digest ${plan.digest} --sign`,
            ...(alone ? [`--alone "…"`] : []),
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
    <Modal title={text.title} close={close}>
      <What plan={plan} verdict={verdict} />
      {grave.length ? (
        <div className="mb-4">
          <p className="text-sm font-semibold">Each grave caution needs your own word, in ten characters or more:</p>
          <Cautions cautions={grave} words={said} say={(id, word) => setSaid({ ...said, [id]: word })} />
        </div>
      ) : null}
      <Field>
        <Label>{text.remark}</Label>
        <Textarea
          rows={3}
          className="mt-1 mb-4 block w-full rounded border border-muted bg-sheet px-3 py-2"
          value={remark}
          onChange={(e) => setRemark(e.target.value)}
        />
      </Field>
      <Note error={decide.error ?? statement.error} />
      <End
        label={signs ? "Go on to sign…" : text.done}
        disabled={
          decide.isPending ||
          statement.isPending ||
          (alone && tooShort(remark)) ||
          grave.some((c) => tooShort(said[c.id]))
        }
        go={() =>
          signs
            ? statement.mutate({
                says: alone ? "alone" : "approved",
                words: said,
                ...(alone ? { reason: remark } : {}),
              })
            : decide.mutate(decision, { onSuccess: close })
        }
        close={close}
      />
    </Modal>
  );
}

/** Whether people sign such a verdict by keys of their own. */
const signed = (plan: Plan, verdict: Verdict) =>
  verdict === "alone" || (verdict === "approve" && (plan.to_sign?.length ?? 0) > 0);

function What({ plan, verdict }: { plan: Plan; verdict: Verdict }) {
  if (verdict === "decline") return <p className="mb-3 text-sm">The author sees your remark.</p>;
  return (
    <>
      {verdict === "alone" ? (
        <p className="mb-3 text-sm">
          Nobody else looks at it. The roster lets you, the history says that you did, and reviewers are told. You have
          an hour to start it.
        </p>
      ) : null}
      <p className="mb-3 text-sm">
        What you approve is exactly these {plan.steps.toLocaleString()} step{plan.steps === 1 ? "" : "s"}, by their
        digest:
        <code className="mt-1 block">{plan.digest}</code>
      </p>
    </>
  );
}

const tooShort = (text: string | undefined) => (text?.trim().length ?? 0) < 10;

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
