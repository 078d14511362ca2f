import { useState } from "react";
import { Link } from "react-router";
import type { Plan } from "../../api/client";
import { useSteps } from "./queries";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import { RemarkForm } from "./RemarkForm";
import { Said } from "./Said";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";

/** A plan's steps path by path, out of the bytes that are signed, with what people say of each. */
export function Steps({ plan }: { plan: Plan }) {
  const hosts = plan.hosts ?? [];
  const [host, setHost] = useState(hosts[0]?.host ?? "");
  const [open, setOpen] = useState<number>();
  const steps = useSteps(plan.id, host, hosts.find((h) => h.host === host)?.steps ?? 0);
  const items = steps.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <section className="mt-6" aria-labelledby="steps">
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4">
        <h2 id="steps" className="font-bold">
          Step by step
        </h2>
        {hosts.length > 1 ? (
          <Field label="on" className="text-sm">
            <Select
              value={host}
              onChange={(e) => {
                setHost(e.target.value);
                setOpen(undefined);
              }}
            >
              {hosts.map((h) => (
                <option key={h.host}>{h.host}</option>
              ))}
            </Select>
          </Field>
        ) : (
          <span className="text-sm text-muted">on {host}</span>
        )}
      </div>
      <Note error={steps.error} />
      <LongList
        label="Steps"
        items={items}
        more={steps}
        estimate={36}
        className="max-h-[60vh]"
        keyOf={(s) => String(s.step)}
        row={(s) => {
          const remarks = (plan.remarks ?? []).filter((r) => r.host === host && r.path === s.path);
          return (
            <div className="py-1.5">
              <button
                type="button"
                className="flex w-full cursor-pointer flex-wrap items-baseline gap-x-3 text-left hover:underline"
                aria-expanded={open === s.step}
                onClick={() => setOpen(open === s.step ? undefined : s.step)}
              >
                <span className="w-14 shrink-0 text-sm text-muted">{s.kind}</span>
                <code className="min-w-0 flex-1">{s.path}</code>
                {remarks.length ? (
                  <span className="text-sm">{remarks.length === 1 ? "1 remark" : `${remarks.length} remarks`}</span>
                ) : null}
                {s.before.mode ? (
                  <code className="text-muted">
                    {s.before.mode} → {s.after.mode}
                  </code>
                ) : null}
                <span aria-hidden="true">{open === s.step ? "▾" : "▸"}</span>
              </button>
              {open === s.step ? (
                <div className="py-2 pl-4">
                  <BeforeAfter before={s.before} after={s.after} />
                  <p className="mt-2 text-sm">
                    <Link to={`/look?host=${encodeURIComponent(host)}&path=${encodeURIComponent(s.path)}`}>
                      Look at it as it is now
                    </Link>
                  </p>
                  <Said remarks={remarks} />
                  <RemarkForm plan={plan.id} of={{ host, path: s.path }} label="Say something of this step" />
                </div>
              ) : null}
            </div>
          );
        }}
      />
    </section>
  );
}
