import { Field, Label } from "@headlessui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, body, Problem, type Report } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button } from "../../ui/Button";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Waves } from "../../shared/Waves";
import type { Basket } from "./basket";
import { later, type Single } from "./model";
import { Input } from "../../ui/Input";

/** Gives a finding by its number in the newest report: the host may have been looked at since it was chosen. */
async function current(s: Single, reports: readonly Report[]) {
  const report = later(s, reports);
  if (!report) return { report: s.report, seq: s.seq };
  const found = await body(
    api.GET("/api/v1/reports/{id}/findings", {
      params: { path: { id: report.id }, query: { under: s.path, limit: 20 } },
    }),
  );
  const same = found.items?.find((f) => f.path === s.path && f.aspect === s.aspect);
  return same ? { report: report.id, seq: same.seq } : undefined;
}

/** Names what is in the basket once more, and makes a draft of it. */
export function DraftPlan({
  application,
  basket,
  reports,
  close,
}: {
  application: string;
  basket: Basket;
  reports: readonly Report[];
  close: () => void;
}) {
  const navigate = useNavigate();
  const [title, setTitle] = useState("");
  const [waves, setWaves] = useState({ first: 1, stop_at: 10 });
  const hosts = new Set([...basket.groups.map((g) => g.host), ...basket.singles.map((s) => s.host)]).size;
  const draft = useChange(async () => {
    const singles = (await Promise.all(basket.singles.map((s) => current(s, reports)))).filter((s) => s !== undefined);
    if (singles.length + basket.groups.length === 0)
      throw new Problem(0, "What was in the basket is as declared by now. There is nothing to mend.");
    return body(
      api.POST("/api/v1/plans", {
        body: {
          application,
          title: title || undefined,
          groups: basket.groups.map((g) => ({ report: g.report, group: g.id })),
          findings: singles,
          ...(hosts > 1 ? waves : {}),
        },
      }),
    );
  });
  return (
    <Modal
      title={`Draft a plan for ${basket.findings === 1 ? "1 finding" : `${basket.findings.toLocaleString()} findings`}?`}
      close={close}
    >
      <p className="mb-3 text-sm">Nothing changes yet: somebody else looks at the plan first.</p>
      <ul
        className="mb-4 max-h-60 overflow-y-auto border-y border-line text-sm"
        tabIndex={0}
        aria-label="In the basket"
      >
        {basket.groups.slice(0, 200).map((g) => (
          <li key={g.host + g.id} className="flex items-baseline gap-3 border-b border-line py-1 last:border-0">
            <span className="min-w-0 flex-1">
              {g.host}: {g.count === 1 ? null : `${g.count.toLocaleString()} ${g.kind}s, `}
              {g.aspect} <code>{g.found}</code> {g.count === 1 ? "of" : "in"}{" "}
              <code>{g.count === 1 ? g.example : g.folder}</code>
            </span>
            <button type="button" className="cursor-pointer underline" onClick={() => basket.putGroups([g], false)}>
              leave out
            </button>
          </li>
        ))}
        {basket.groups.length > 200 ? (
          <li className="py-1 text-muted">and {(basket.groups.length - 200).toLocaleString()} more groups</li>
        ) : null}
        {basket.singles.map((s) => (
          <li
            key={s.host + s.aspect + s.path}
            className="flex items-baseline gap-3 border-b border-line py-1 last:border-0"
          >
            <span className="min-w-0 flex-1">
              {s.host}: {s.aspect} of <code>{s.path}</code>
            </span>
            <button type="button" className="cursor-pointer underline" onClick={() => basket.drop(s)}>
              leave out
            </button>
          </li>
        ))}
      </ul>
      <Field className="mb-4">
        <Label className="text-sm">What it is for</Label>
        <Input
          className="mt-1 block w-full"
          maxLength={200}
          placeholder={`Remediation of ${application}`}
          value={title}
          onChange={(e) => setTitle(e.target.value)}
        />
      </Field>
      <Waves hosts={hosts} value={waves} set={setWaves} />
      <Note error={draft.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={close}>Not now</Button>
        <Button
          look="strong"
          disabled={draft.isPending || basket.findings === 0}
          onClick={() =>
            draft.mutate(undefined, {
              onSuccess: (p) => {
                basket.empty();
                void navigate(`/plans/${p.id}`);
              },
            })
          }
        >
          {draft.isPending ? "Drafting…" : "Draft it"}
        </Button>
      </div>
    </Modal>
  );
}
