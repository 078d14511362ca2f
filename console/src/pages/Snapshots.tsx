import { Link } from "react-router";
import type { Person } from "../api/client";
import { useSnapshots } from "../api/queries";
import { Note } from "../components/Note";
import { StateWord } from "../components/StateWord";
import { Table } from "../components/Table";
import { Time } from "../components/Time";

export default function Snapshots({ me }: { me: Person }) {
  const author = me.roles?.includes("author") ?? false;
  const snaps = useSnapshots();
  return (
    <>
      <h1 className="mb-4 font-bold">Snapshots</h1>
      <Note error={snaps.error} />
      {snaps.data?.items?.length === 0 ? <Note>No snapshot yet. The overview asks for one with “Look again”.</Note> : null}
      <Table label="Snapshots" columns={["Taken", "Application", "Host", "State", { name: "Paths", figure: true }, { name: "Gaps", figure: true }, "Root hash", "Asked for by", { name: "What can be done", hidden: true }]}>
            {snaps.data?.items?.map((s) => (
              <tr key={s.id}>
                <td>{s.state === "ready" ? <Link to={`/look?snapshot=${s.id}`}><Time at={s.taken} /></Link> : <Time at={s.created} />}</td>
                <td>{s.application}</td>
                <td>{s.host}</td>
                <td><StateWord state={s.state} />{s.message ? <div className="text-sm">{s.message}</div> : null}</td>
                <td className="figure">{s.paths.toLocaleString()}</td>
                <td className="figure">{s.gaps.toLocaleString()}</td>
                <td><code title={s.root}>{s.root?.slice(0, 12)}</code></td>
                <td>{s.heard ? <span className="text-muted">nobody: a change was heard of</span> : s.requested_by}</td>
                <td className="whitespace-nowrap">{author && s.state === "ready" ? <Link to={`/put-back?snapshot=${s.id}`}>Return to it…</Link> : null}</td>
              </tr>
            ))}
      </Table>
    </>
  );
}
