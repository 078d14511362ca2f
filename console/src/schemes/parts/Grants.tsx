import type { Schemas } from "../../api/client";
import { Table } from "../../ui/Table";

/**
 * The entries of a list that allows and denies, in the order in which they count: who is allowed or denied what, what
 * it reaches, and where it came from.
 */
export function Grants({ lines, folder }: { lines: readonly Schemas["EntryLine"][]; folder: boolean }) {
  return (
    <Table
      label="Entries"
      columns={["Who", { name: "Allow or deny", hidden: true }, "Rights", ...(folder ? ["Reaches"] : []), "Comes from"]}
    >
      {lines.map((l, i) => (
        <tr key={i}>
          <td>
            {l.who}
            {l.unknown ? <em className="text-opens"> (no longer exists)</em> : null}
          </td>
          <td>
            {l.deny ? (
              <strong className="whitespace-nowrap rounded bg-closes-wash px-1.5 text-closes">
                <span aria-hidden="true">▼ </span>deny
              </strong>
            ) : (
              "allow"
            )}
          </td>
          <td>{l.rights}</td>
          {folder ? <td className="text-sm">{l.reaches}</td> : null}
          <td className="text-sm">
            {l.origin.startsWith("from /") ? (
              <>
                from <code>{l.origin.slice(5)}</code>
              </>
            ) : (
              l.origin
            )}
          </td>
        </tr>
      ))}
    </Table>
  );
}
