import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Person, Plan } from "../../api/client";
import { usePlan, useStart, useStatement, useSubmit, useWithdrawPlan, type Verdict } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Alike } from "./Alike";
import { Cautions } from "./Cautions";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { StateWord } from "../../shared/StateWord";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Decide } from "./Decide";
import { Remarks } from "./Remarks";
import { Signed } from "./Signed";
import { Steps } from "./Steps";
import { Submit } from "./Submit";

function Actions({ plan, me }: { plan: Plan; me: Person }) {
  const submit = useSubmit(plan.id);
  const start = useStart(plan.id);
  const withdraw = useWithdrawPlan(plan.id);
  const navigate = useNavigate();
  const [deciding, setDeciding] = useState<Verdict>();
  const statement = useStatement(plan.id);
  const mine = plan.author === me.name;
  return (
    <div className="my-4">
      <div className="flex flex-wrap items-center gap-2">
        {plan.state === "draft" && may(me, "author", plan.application) ? (
          <Button
            look="strong"
            disabled={submit.isPending || statement.isPending}
            onClick={() => (plan.to_sign?.length ? statement.mutate({ says: "submitted" }) : submit.mutate({}))}
          >
            {plan.to_sign?.length ? "Put in review…" : "Put in review"}
          </Button>
        ) : null}
        {plan.state === "in review" && may(me, "reviewer", plan.application) && !mine ? (
          <>
            <Button look="strong" onClick={() => setDeciding("approve")}>
              Approve…
            </Button>
            <Button onClick={() => setDeciding("decline")}>Decline…</Button>
          </>
        ) : null}
        {plan.state === "in review" && mine ? (
          <span className="text-muted">
            Somebody else with the role reviewer decides: nobody approves their own plan.
          </span>
        ) : null}
        {(plan.state === "draft" || plan.state === "in review") &&
        plan.may_alone &&
        may(me, "operator", plan.application) ? (
          <Button onClick={() => setDeciding("alone")}>Approve alone…</Button>
        ) : null}
        {plan.state === "approved" && may(me, "operator", plan.application) ? (
          <Button
            look="strong"
            disabled={start.isPending}
            onClick={() => start.mutate(undefined, { onSuccess: (r) => void navigate(`/runs/${r.id}`) })}
          >
            Run it now
          </Button>
        ) : null}
        {(plan.state === "in review" || plan.state === "approved") &&
        (mine || plan.approvals?.some((a) => a.reviewer === me.name)) ? (
          <Button disabled={withdraw.isPending} onClick={() => withdraw.mutate(undefined)}>
            {mine ? "Take it out of review" : "Take my approval back"}
          </Button>
        ) : null}
        {plan.run ? <Link to={`/runs/${plan.run}`}>See its run</Link> : null}
      </div>
      <Note error={statement.error ?? submit.error ?? start.error ?? withdraw.error} />
      {statement.data ? <Submit plan={plan} ask={statement.data} close={() => statement.reset()} /> : null}
      {deciding ? <Decide plan={plan} verdict={deciding} close={() => setDeciding(undefined)} /> : null}
    </div>
  );
}

export default function PlanPage({ me }: { me: Person }) {
  const { id = "" } = useParams();
  const query = usePlan(id);
  const plan = query.data;
  if (!plan) return <Note error={query.error} />;
  return (
    <>
      <Title
        text={plan.title}
        does="Read each step before it is carried out; then submit, approve or decline the plan, or have it carried out."
        className="mb-2"
      />
      <p className="flex flex-wrap items-baseline gap-x-3 text-sm text-muted">
        <StateWord state={plan.state} />
        <span>
          {plan.kind} of <Link to={`/drift/${plan.application}`}>{plan.application}</Link>
        </span>
        <span>
          by {plan.author}, <Time at={plan.created} />
        </span>
        {plan.decided_by ? (
          <span>
            decided by {plan.decided_by}
            {plan.alone ? " alone" : ""}, <Time at={plan.decided} />
          </span>
        ) : null}
        {plan.expires ? (
          <span>
            good until <Time at={plan.expires} />
          </span>
        ) : null}
      </p>
      {plan.alone ? (
        <p role="note" className="my-2 rounded bg-opens-wash px-3 py-2 font-semibold text-opens">
          Nobody but {plan.decided_by} looked at this plan. The roster lets them act alone; look at it now.
        </p>
      ) : null}
      {plan.remark ? <blockquote className="my-2 border-l-4 border-line pl-3">{plan.remark}</blockquote> : null}
      <p className="mt-2 text-sm">
        <span className="text-muted">digest </span>
        <code>{plan.digest}</code>
      </p>
      {plan.first ? (
        <p className="text-sm">
          {plan.hosts
            ?.slice(0, plan.first)
            .map((h) => h.host)
            .join(", ")}{" "}
          first; then the rest, if at most {plan.stop_at} percent of these steps are left undone.
        </p>
      ) : null}
      {plan.to_sign?.length ? (
        <p className="text-sm">
          {plan.to_sign.join(", ")} {plan.to_sign.length === 1 ? "changes" : "change"} only what people of the roster
          have signed.
        </p>
      ) : null}
      {plan.needed > 1 ? (
        <p className="text-sm">
          {plan.approvals?.filter((a) => !a.void).length ?? 0} of {plan.needed} reviewers have approved
          {plan.approvals?.length
            ? `: ${plan.approvals.map((a) => a.reviewer + (a.void ? ` (${a.void})` : "")).join(", ")}`
            : ""}
          .
        </p>
      ) : null}
      <Actions plan={plan} me={me} />
      {plan.cautions?.length ? (
        <section aria-labelledby="cautions">
          <h2 id="cautions" className="mt-6 mb-1 font-bold">
            What to be wary of
          </h2>
          <Cautions
            cautions={plan.cautions}
            words={Object.assign({}, ...(plan.approvals?.map((a) => a.words ?? {}) ?? [])) as Record<string, string>}
          />
        </section>
      ) : null}
      <h2 className="mt-6 mb-1 font-bold">
        {plan.steps === 1 ? "1 step" : `${plan.steps.toLocaleString()} steps`} on{" "}
        {plan.hosts?.map((h) => h.host).join(", ")}
      </h2>
      <Alike groups={plan.groups ?? []} hosts />
      {plan.left?.length ? (
        <section className="mt-6">
          <h2 className="mb-1 font-bold">What the plan leaves</h2>
          <ul className="text-sm">
            {plan.left.map((l) => (
              <li key={`${l.host}${l.path}${l.why}`}>
                {l.host} <code>{l.path}</code>: {l.why}
              </li>
            ))}
          </ul>
        </section>
      ) : null}
      <Signed plan={plan} />
      <Steps plan={plan} />
      <Remarks plan={plan} />
      <Command text={`idletally plan show ${plan.id}`} />
    </>
  );
}
