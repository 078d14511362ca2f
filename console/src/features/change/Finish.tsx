import { useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { Input } from "../../ui/Input";
import { Note } from "../../ui/Note";
import { useDraft } from "../plans/queries";

/** What becomes of a change that was looked at: a plan, or the baseline's word. */
export function Finish({
  application,
  host,
  foreseen,
  ready,
}: {
  application: string;
  host: string;
  foreseen: Schemas["Foreseen"];
  ready: boolean; // what is foreseen is of what is wished
}) {
  const [title, setTitle] = useState("");
  const draft = useDraft();
  const navigate = useNavigate();
  const rules = foreseen.rules;
  return (
    <section aria-label="What becomes of it" className="sticky bottom-0 mt-5 border-t-2 border-ink bg-paper pt-3 pb-1">
      <div className="flex flex-wrap items-end gap-3">
        <Field label="What it is for" className="min-w-48 flex-1 text-sm">
          <Input
            className="mt-0.5 block w-full"
            maxLength={200}
            placeholder="as others will read it in the plan"
            value={title}
            onChange={(e) => setTitle(e.target.value)}
          />
        </Field>
        <Button
          look="strong"
          disabled={!ready || foreseen.steps === 0 || draft.isPending}
          onClick={() =>
            draft.mutate(
              { application, hosts: [host], changes: foreseen.text, ...(title.trim() ? { title: title.trim() } : {}) },
              { onSuccess: (p) => void navigate(`/plans/${p.id}`) },
            )
          }
        >
          Draft a plan
        </Button>
        {rules ? (
          <Button
            disabled={!ready}
            onClick={() => void navigate(`/baselines/${application}/edit`, { state: { rules } })}
          >
            Make it the baseline’s word…
          </Button>
        ) : null}
      </div>
      <Note error={draft.error} />
      <p className="mt-2 text-sm text-muted">
        Nothing changes before somebody else has approved the plan and it is run; what it finds then is kept, and can be
        put back.
      </p>
    </section>
  );
}
