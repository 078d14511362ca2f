import { Link } from "react-router";
import type { Person } from "../../api/client";
import { useApplications } from "../../api/queries";
import { maySomewhere } from "../../shared/roles";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Title } from "../../ui/Title";

/** What should be: every application with its baseline. */
export default function Baselines({ me }: { me: Person }) {
  const apps = useApplications();
  const author = maySomewhere(me, "author");
  return (
    <>
      <Title
        text="Baselines"
        does="Declare what the paths of an application should have, and see which applications have that."
      />
      <Note error={apps.error} />
      {apps.data?.items?.length === 0 ? (
        <Note>
          Nothing is declared yet. Begin with a host that is right: a draft is written from what is there.
          <Command text="idletally baseline derive APPLICATION HOST" />
        </Note>
      ) : null}
      <Table label="Baselines" columns={["Application", "Title", "Published", "Hosts"]}>
        {apps.data?.items?.map((a) => (
          <tr key={a.name}>
            <td>
              <Link to={`/baselines/${a.name}`}>{a.name}</Link>
            </td>
            <td>{a.title}</td>
            <td>{a.published ? `edition ${a.published}` : "nothing yet"}</td>
            <td>{a.hosts?.map((h) => h.host).join(", ")}</td>
          </tr>
        ))}
      </Table>
      {author ? (
        <p className="mt-4">
          <Link to="/baselines/new/edit">Write a new one</Link>
        </p>
      ) : null}
    </>
  );
}
