import { useState } from "react";
import type { Person, Schemas, Seen } from "../../api/client";
import { roles, may, type Role } from "../../shared/roles";
import { useKeepPolicy, usePolicy, useSetPolicy } from "./queries";
import { Button } from "../../ui/Button";
import { Checks } from "../../ui/Checks";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Field } from "../../ui/Field";
import { Input } from "../../ui/Input";
import { Checkbox } from "../../ui/Checkbox";
import { Form } from "../../ui/Form";

type Rules = Schemas["Policy"];

function Amount({
  label,
  unit,
  value,
  most,
  least,
  change,
  disabled,
}: {
  label: string;
  unit: string;
  value: number;
  least: number;
  most: number;
  change: (value: number) => void;
  disabled: boolean;
}) {
  return (
    <Field label={label} className="mt-3 block">
      <span className="mt-0.5 flex items-center gap-2">
        <Input
          type="number"
          className="w-24"
          min={least}
          max={most}
          required
          disabled={disabled}
          value={value}
          onChange={(e) => change(e.target.valueAsNumber || least)}
        />
        {unit}
      </span>
    </Field>
  );
}

function said(p: Rules): string {
  return [
    p.managers_approve ? "who manages people may approve plans" : "who manages people approves no plans",
    p.reviewer_after ? `new reviewers count after ${p.reviewer_after} hours` : "new reviewers count at once",
    p.second_factor?.length
      ? `a second factor is needed by ${p.second_factor.join(", ")}`
      : "a second factor is left to each",
    p.enrolment_days ? `hosts are enrolled anew after ${p.enrolment_days} days` : "hosts stay enrolled",
    `sessions end after ${p.idle} minutes`,
    p.agree
      ? `changes of who may do what take the agreement of ${p.agree} more`
      : "admins change who may do what alone",
    ...(p.agree_signed ? ["whoever agrees to a request signs it by a key of their own"] : []),
  ].join("; ");
}

function Change({ had, admin }: { had: Seen<Schemas["PolicyNow"]>; admin: boolean }) {
  const set = useSetPolicy();
  const keep = useKeepPolicy();
  const { next: first, from: firstFrom, by: firstBy, ...begin } = had.value;
  const [rules, setRules] = useState<Rules>(begin);
  const [tag, setTag] = useState(had.tag);
  const [next, setNext] = useState(first ? { rules: first, from: firstFrom ?? "", by: firstBy ?? "" } : undefined);
  const saw = ({ value, tag }: Seen<Schemas["PolicyNow"]>) => {
    const { next: to, from, by, ...rest } = value;
    setRules(rest);
    setNext(to ? { rules: to, from: from ?? "", by: by ?? "" } : undefined);
    setTag(tag);
  };
  return (
    <Form className="max-w-xl" onSubmit={() => set.mutate({ policy: rules, tag }, { onSuccess: saw })}>
      {next ? (
        <Note>
          From <Time at={next.from} /> on, as {next.by} wants: {said(next.rules)}.{" "}
          {admin ? (
            <Button disabled={keep.isPending} onClick={() => keep.mutate(undefined, { onSuccess: saw })}>
              Keep it as it is
            </Button>
          ) : null}
        </Note>
      ) : null}
      <Checkbox
        disabled={!admin}
        checked={rules.managers_approve}
        onChange={(e) => setRules({ ...rules, managers_approve: e.target.checked })}
        className="mt-3 flex items-center gap-2"
      >
        Who manages people may approve plans, too
      </Checkbox>
      <Amount
        label="New reviewers, and those whose sign-in an admin has reset, count after"
        unit="hours"
        least={0}
        most={720}
        disabled={!admin}
        value={rules.reviewer_after}
        change={(reviewer_after) => setRules({ ...rules, reviewer_after })}
      />
      <Amount
        label="Hosts are enrolled anew, however often their agents renew their certificates, after (0 is never)"
        unit="days"
        least={0}
        most={3650}
        disabled={!admin}
        value={rules.enrolment_days}
        change={(enrolment_days) => setRules({ ...rules, enrolment_days })}
      />
      <Amount
        label="Sessions that nobody uses end after"
        unit="minutes"
        least={5}
        most={720}
        disabled={!admin}
        value={rules.idle}
        change={(idle) => setRules({ ...rules, idle })}
      />
      <Amount
        label="Changes of people, roles, sign-ins, reviewers and this policy need the agreement of (0 is nobody)"
        unit="other admins"
        least={0}
        most={5}
        disabled={!admin}
        value={rules.agree ?? 0}
        change={(agree) => setRules({ ...rules, agree })}
      />
      <Checkbox
        disabled={!admin}
        checked={rules.agree_signed ?? false}
        onChange={(e) => setRules({ ...rules, agree_signed: e.target.checked })}
        className="mt-3 flex items-center gap-2"
      >
        Whoever agrees to a request signs that by a key of their own, which the roster has
      </Checkbox>
      {admin ? (
        <Checks
          legend="A second factor is needed by"
          options={roles.map((key) => ({ key, means: "" }))}
          chosen={(rules.second_factor ?? []) as Role[]}
          choose={(second_factor) => setRules({ ...rules, second_factor })}
        />
      ) : (
        <p className="mt-3">{said(rules)}.</p>
      )}
      <Note error={set.error ?? keep.error} />
      {admin ? (
        <>
          <p className="mt-3 text-sm text-muted">
            What is stricter holds at once. What allows more holds when a reviewer who is made now would count, and
            until then every admin can take it back.
          </p>
          <div className="mt-3 flex items-center gap-3">
            <Button type="submit" look="strong" disabled={set.isPending}>
              Set it
            </Button>
            {set.isSuccess ? (
              <span role="status" className="text-sm">
                {next ? "It holds later." : "It holds from now on."}
              </span>
            ) : null}
          </div>
        </>
      ) : null}
    </Form>
  );
}

/** What holds for people and their sessions. */
export function Policy({ me }: { me: Person }) {
  const { first, error } = usePolicy();
  return (
    <>
      <Note error={error} />
      {first ? <Change had={first} admin={may(me, "admin")} /> : null}
      <Command text="idletally policy show" />
    </>
  );
}
