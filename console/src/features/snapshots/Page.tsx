import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Person } from "../../api/client";
import { useOverview } from "../overview/queries";
import { useSnapshotPages } from "./queries";
import { maySomewhere } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { More } from "../../ui/More";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Title } from "../../ui/Title";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { CameTo } from "./CameTo";
import { TakenAt } from "./TakenAt";

export default function Snapshots({ me }: { me: Person }) {
  const author = maySomewhere(me, "author");
  const [search, setSearch] = useSearchParams();
  const application = search.get("application") ?? "";
  const host = search.get("host") ?? "";
  const applications = useOverview().data?.applications ?? [];
  const [name, setName] = useState(host);
  const snaps = useSnapshotPages(application, host);
  const items = snaps.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const set = (changes: Record<string, string>) =>
    setSearch(Object.fromEntries(Object.entries({ application, host, ...changes }).filter(([, v]) => v)), {
      replace: true,
    });
  return (
    <>
      <Title text="Snapshots" does="Look at how paths were at some time, and compare two times." />
      <Note error={snaps.error} />
      <Form className="mb-3 flex flex-wrap items-end gap-3" onSubmit={() => set({ host: name.trim() })}>
        <Field label="Application" className="text-sm">
          <Select className="mt-0.5 block" value={application} onChange={(e) => set({ application: e.target.value })}>
            <option value="">all</option>
            {applications.map((a) => (
              <option key={a.name}>{a.name}</option>
            ))}
          </Select>
        </Field>
        <Field label="Host" className="text-sm">
          <Input
            className="mt-0.5 block w-48"
            placeholder="all"
            spellCheck={false}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Button type="submit">Show</Button>
      </Form>
      {snaps.data && items.length === 0 ? (
        <Note>
          {application || host
            ? "None of these."
            : "No snapshot yet. The page of a host asks for one with “Look again”."}
        </Note>
      ) : null}
      <Table
        label="Snapshots"
        columns={[
          "Taken",
          "Application",
          "Host",
          "State",
          { name: "Paths", figure: true },
          { name: "Gaps", figure: true },
          "Root hash",
          "Asked for by",
          { name: "What can be done", hidden: true },
        ]}
      >
        {items.map((s) => (
          <tr key={s.id}>
            <td>
              <TakenAt snapshot={s} />
            </td>
            <td>{s.application}</td>
            <td>{s.host}</td>
            <td>
              <CameTo snapshot={s} />
            </td>
            <td className="figure">{s.paths.toLocaleString()}</td>
            <td className="figure">{s.gaps.toLocaleString()}</td>
            <td>
              <code title={s.root}>{s.root?.slice(0, 12)}</code>
            </td>
            <td>{s.heard ? <span className="text-muted">nobody: a change was noticed</span> : s.requested_by}</td>
            <td className="whitespace-nowrap">
              {author && s.state === "ready" ? <Link to={`/put-back?snapshot=${s.id}`}>Return to it…</Link> : null}
            </td>
          </tr>
        ))}
      </Table>
      <More of={snaps} />
    </>
  );
}
