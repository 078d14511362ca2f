import { Link, useSearchParams } from "react-router";
import { planStates } from "./model";
import { usePlans } from "./queries";
import { More } from "../../ui/More";
import { Note } from "../../ui/Note";
import { StateWord } from "../../shared/StateWord";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";

export default function Plans() {
  const [search, setSearch] = useSearchParams();
  const state = planStates.find((s) => s === search.get("state"));
  const plans = usePlans(state);
  const items = plans.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <>
      <Title text="Plans" does="Find what waits to be reviewed or carried out, and what became of it." />
      <Note error={plans.error} />
      <Field label="State" className="mb-3 block">
        <Select
          value={state ?? ""}
          onChange={(e) => setSearch(e.target.value ? { state: e.target.value } : {}, { replace: true })}
        >
          <option value="">all</option>
          {planStates.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </Select>
      </Field>
      {plans.data && items.length === 0 ? (
        <Note>{state ? `No plan is ${state}.` : "No plan yet. Choose findings of an application, and draft one."}</Note>
      ) : null}
      <Table
        label="Plans"
        columns={[
          "Plan",
          "State",
          "Kind",
          "Application",
          { name: "Steps", figure: true },
          "Author",
          "Decided by",
          "Drafted",
        ]}
      >
        {items.map((p) => (
          <tr key={p.id}>
            <td>
              <Link to={`/plans/${p.id}`}>{p.title}</Link>
            </td>
            <td>
              <StateWord state={p.state} />
            </td>
            <td>{p.kind}</td>
            <td>{p.application}</td>
            <td className="figure">{p.steps.toLocaleString()}</td>
            <td>{p.author}</td>
            <td>{p.decided_by}</td>
            <td>
              <Time at={p.created} />
            </td>
          </tr>
        ))}
      </Table>
      <More of={plans} />
    </>
  );
}
