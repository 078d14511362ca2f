import type { Person } from "../../api/client";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Request } from "./Request";
import { useRequests } from "./queries";

/** What waits for others to agree. */
export function Requests({ me }: { me: Person }) {
  const requests = useRequests();
  const items = requests.data?.items ?? [];
  return (
    <>
      <p className="mb-3 text-sm">
        Where the policy says so, changes of who may do what wait until other admins have agreed to exactly these; where
        an application says so, an edition of its baseline waits for reviewers. Whoever asked does it again then.
      </p>
      <Note error={requests.error} />
      {requests.data && items.length === 0 ? <Note>Nothing waits for others to agree.</Note> : null}
      {items.length > 0 ? (
        <Table label="Requests" columns={["What", "Asked by", "Agreed", "Until", { name: "Actions", hidden: true }]}>
          {items.map((r) => (
            <Request key={r.id} request={r} me={me} />
          ))}
        </Table>
      ) : null}
      <Command text="idletally request list" />
    </>
  );
}
