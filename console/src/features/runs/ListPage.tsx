import { Link } from "react-router";
import { useRuns } from "./queries";
import { More } from "../../ui/More";
import { Note } from "../../ui/Note";
import { StateWord } from "../../shared/StateWord";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";

export default function Runs() {
  const runs = useRuns();
  const items = runs.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <>
      <Title text="Runs" does="Find what was carried out, and put it back where it has to be." />
      <Note error={runs.error} />
      {runs.data && items.length === 0 ? <Note>Nothing has run yet. An approved plan can.</Note> : null}
      <Table
        label="Runs"
        columns={[
          "Plan",
          "State",
          "Hosts",
          { name: "Done", figure: true },
          { name: "Refused or skipped", figure: true },
          "By",
          "Started",
        ]}
      >
        {items.map((r) => (
          <tr key={r.id}>
            <td>
              <Link to={`/runs/${r.id}`}>{r.title}</Link>
            </td>
            <td>
              <StateWord state={r.state} />
            </td>
            <td>{r.hosts?.map((h) => h.host).join(", ")}</td>
            <td className="figure">{(r.hosts ?? []).reduce((n, h) => n + h.done, 0).toLocaleString()}</td>
            <td className="figure">
              {(r.hosts ?? []).reduce((n, h) => n + h.refused + h.skipped, 0).toLocaleString()}
            </td>
            <td>{r.started_by}</td>
            <td>
              <Time at={r.started} />
            </td>
          </tr>
        ))}
      </Table>
      <More of={runs} />
    </>
  );
}
