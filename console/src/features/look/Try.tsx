import type { Schemas } from "../../api/client";
import { quoted } from "./model";
import { useProbe } from "./queries";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";

function Row({ row }: { row: Schemas["ProbeRow"] }) {
  const { tried, computed } = row;
  return (
    <tr className={row.differ ? "bg-opens-wash" : ""}>
      <th scope="row" className="rowhead">
        {row.operation}
      </th>
      <td>{computed.allowed ? "yes" : "no"}</td>
      <td>
        {tried.untried ? "not tried" : tried.allowed ? "yes" : "no"}
        {row.differ ? <strong className="text-opens"> differs</strong> : null}
      </td>
      <td className="text-sm">{tried.untried ?? tried.call}</td>
    </tr>
  );
}

/** The host's own kernel tries as an account, beside what was computed. */
export function Try({ host, account, path, share }: { host: string; account: string; path: string; share: boolean }) {
  const probe = useProbe();
  if (!account || account === "everyone")
    return (
      <Note>
        Choose an account above:{" "}
        {share
          ? "the agent signs in to the file server as that account."
          : "the host tries with its ids and groups, and no privilege left."}
      </Note>
    );
  return (
    <>
      <p className="my-2 text-sm">
        {share
          ? `The agent signs in to ${host} as ${account}, by the password that it was given for that, and opens the path with just the right that each operation takes.`
          : `A child process on ${host} takes on the ids and groups of ${account} and tries each operation, in ways that leave nothing behind.`}
      </p>
      <Button look="strong" disabled={probe.isPending} onClick={() => probe.mutate({ host, account, path })}>
        Try as {account}
      </Button>
      <Note error={probe.error} />
      {probe.data ? (
        <div className="mt-3">
          <Table label="Computed and tried" columns={["Operation", "Computed", "Tried", "How it was tried"]}>
            {probe.data.rows?.map((r) => (
              <Row key={r.operation} row={r} />
            ))}
          </Table>
          {probe.data.differ ? (
            <Note>
              The answers differ: that is an error of Idle Tally. Please report it with this:
              <pre className="mt-2 overflow-x-auto text-xs">{probe.data.repeat}</pre>
            </Note>
          ) : (
            <p className="mt-2">Whatever was tried is as computed.</p>
          )}
        </div>
      ) : null}
      <Command text={`idletally access probe --host ${host} ${quoted(account)} ${quoted(path)}`} />
    </>
  );
}
