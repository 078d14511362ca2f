import { Link } from "react-router";
import { usePlans } from "../api/queries";
import { Note } from "../components/Note";
import { StateWord } from "../components/StateWord";
import { Table } from "../components/Table";
import { Time } from "../components/Time";

export default function Plans() {
  const plans = usePlans();
  return (
    <>
      <h1 className="mb-4 font-bold">Plans</h1>
      <Note error={plans.error} />
      {plans.data?.items?.length === 0 ? <Note>No plan yet. Choose findings of an application, and draft one.</Note> : null}
      <Table label="Plans" columns={["Plan", "State", "Kind", "Application", { name: "Steps", figure: true }, "Author", "Decided by", "Drafted"]}>
            {plans.data?.items?.map((p) => (
              <tr key={p.id}>
                <td><Link to={`/plans/${p.id}`}>{p.title}</Link></td>
                <td><StateWord state={p.state} /></td>
                <td>{p.kind}</td>
                <td>{p.application}</td>
                <td className="figure">{p.steps.toLocaleString()}</td>
                <td>{p.author}</td>
                <td>{p.decided_by}</td>
                <td><Time at={p.created} /></td>
              </tr>
            ))}
      </Table>
    </>
  );
}
