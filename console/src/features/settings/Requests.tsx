import type { Person, Schemas } from "../../api/client";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { useDecideRequest, useRequests } from "./queries";

type Request = Schemas["Request"];

function Row({ request, me }: { request: Request; me: Person }) {
  const decide = useDecideRequest();
  const mine = request.asked_by === me.name;
  return (
    <tr>
      <td>
        {request.summary} {request.application ? <span className="text-muted">({request.application})</span> : null}
        <pre className="mt-1 max-w-xl rounded bg-sheet p-2 text-xs break-all whitespace-pre-wrap">{request.says}</pre>
        <Note error={decide.error} />
      </td>
      <td>{request.asked_by}</td>
      <td>
        {request.agreed.length} of {request.needed}
        {request.agreed.length ? `: ${request.agreed.join(", ")}` : ""}
        {request.state === "agreed" && mine ? <div className="text-sm">Do it again: it is carried out now.</div> : null}
      </td>
      <td>
        <Time at={request.expires} />
      </td>
      <td className="figure whitespace-nowrap">
        {!mine && request.state === "waiting" ? (
          <Button
            look="strong"
            disabled={decide.isPending}
            onClick={() => decide.mutate({ id: request.id, agree: true })}
            aria-label={`Agree to ${request.operation} of ${request.asked_by}`}
          >
            Agree
          </Button>
        ) : null}{" "}
        <Button
          disabled={decide.isPending}
          onClick={() => decide.mutate({ id: request.id, agree: false })}
          aria-label={`${mine ? "Take back" : "Decline"} ${request.operation} of ${request.asked_by}`}
        >
          {mine ? "Take back" : "Decline"}
        </Button>
      </td>
    </tr>
  );
}

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
            <Row key={r.id} request={r} me={me} />
          ))}
        </Table>
      ) : null}
      <Command text="idletally request list" />
    </>
  );
}
