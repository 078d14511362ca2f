import { Link } from "react-router";
import { useRuns } from "../api/queries";
import { Note } from "../components/Note";
import { StateWord } from "../components/StateWord";
import { Table } from "../components/Table";
import { Time } from "../components/Time";

export default function Runs() {
  const runs = useRuns();
  return (
    <>
      <h1 className="mb-4 font-bold">Runs</h1>
      <Note error={runs.error} />
      {runs.data?.items?.length === 0 ? <Note>Nothing has run yet. An approved plan can.</Note> : null}
      <Table label="Runs" columns={["Plan", "State", "Hosts", { name: "Done", figure: true }, { name: "Refused or skipped", figure: true }, "By", "Started"]}>
            {runs.data?.items?.map((r) => (
              <tr key={r.id}>
                <td><Link to={`/runs/${r.id}`}>{r.title}</Link></td>
                <td><StateWord state={r.state} /></td>
                <td>{r.hosts?.map((h) => h.host).join(", ")}</td>
                <td className="figure">{(r.hosts ?? []).reduce((n, h) => n + h.done, 0).toLocaleString()}</td>
                <td className="figure">{(r.hosts ?? []).reduce((n, h) => n + h.refused + h.skipped, 0).toLocaleString()}</td>
                <td>{r.started_by}</td>
                <td><Time at={r.started} /></td>
              </tr>
            ))}
      </Table>
    </>
  );
}
