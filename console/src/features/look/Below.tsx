import { Link } from "react-router";
import { flagsOf, quoted } from "./model";
import { useBelow } from "./queries";
import type { Look } from "./address";
import { Command } from "../../ui/Command";
import { Mode } from "../../shared/Mode";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Suppose } from "./Suppose";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";
import { Checkbox } from "../../ui/Checkbox";

const operations = [
  "read",
  "write",
  "execute",
  "list",
  "enter",
  "create",
  "create-file",
  "create-folder",
  "delete",
  "change",
];

const state = (was: boolean, is: boolean) => (was && is ? "can" : is ? "gains" : "loses");

/** What one account, or everyone, can do with everything below a folder. */
export function Below({ look, path }: { look: Look; path: string }) {
  const account = look.account || "everyone";
  const operation = operations.includes(look.operation) ? look.operation : "write";
  const behind = look.row === "behind";
  const below = useBelow(
    look.where,
    path,
    account,
    operation,
    behind,
    account === "everyone" ? { ...look.supposed, joining: undefined } : look.supposed,
  );
  const b = below.data;
  return (
    <>
      <div className="my-2 flex flex-wrap items-end gap-4">
        <Field label={<>{account} can</>} className="text-sm">
          <Select className="mt-0.5 block" value={operation} onChange={(e) => look.set({ operation: e.target.value })}>
            {operations.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </Select>
        </Field>
        <Checkbox
          checked={behind}
          onChange={(e) => look.set({ row: e.target.checked ? "behind" : "" })}
          className="flex items-center gap-2 pb-2 text-sm"
        >
          as if every folder could be traversed
        </Checkbox>
      </div>
      <Suppose look={look} joining={account !== "everyone"} />
      <Note error={below.error} />
      {below.isPending ? (
        <p className="text-muted" role="status">
          Looking at everything below…
        </p>
      ) : null}
      {b ? (
        <>
          <p className="my-2">
            {account} {behind ? "could, if every folder could be traversed," : "can"} {operation}{" "}
            <strong>{b.held.toLocaleString()}</strong> paths
            {b.suppose ? (
              <>
                ; then <strong>{b.then.toLocaleString()}</strong>: {b.gained.toLocaleString()} gained,{" "}
                {b.lost.toLocaleString()} lost ({b.suppose})
              </>
            ) : null}
            .
          </p>
          {b.stopped ? <Note>{b.stopped}.</Note> : null}
          {b.groups?.length ? (
            <Table
              label="Paths with equal permissions"
              columns={["", { name: "Paths", figure: true }, "Mode", "Owner", "In"]}
            >
              {b.groups.map((g) => (
                <tr key={`${g.example}${g.was}${g.is}`}>
                  <td>{state(g.was, g.is)}</td>
                  <td className="figure">{g.count.toLocaleString()}</td>
                  <td>
                    <Mode view={g.access} small />
                    {g.access.entries?.length ? " +" : ""}
                  </td>
                  <td className="text-sm">
                    {g.access.owner}:{g.access.group}
                  </td>
                  <td className="text-sm">
                    <code>{g.folder}</code> such as{" "}
                    <Link to={look.address({ path: g.example, tab: "" })}>
                      <code>{g.example.slice(g.folder.length).replace(/^\//, "")}</code>
                    </Link>
                  </td>
                </tr>
              ))}
            </Table>
          ) : null}
          <p className="mt-2 text-sm text-muted">
            {b.looked.toLocaleString()} paths looked at; {b.closed.toLocaleString()} folders that no way leads into
            {b.unread > 0 ? `; ${b.unread.toLocaleString()} whose content is not known` : ""}
            {b.unknown
              ? `; ${b.unknown.toLocaleString()} paths of which it is not known, since the server does not tell who is in a group that their lists name`
              : ""}
            .
          </p>
          <Command
            text={`idletally access below ${flagsOf(look.where)} ${quoted(account)} ${operation} ${quoted(path)}${behind ? " --behind" : ""}`}
          />
        </>
      ) : null}
    </>
  );
}
