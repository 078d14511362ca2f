import type { Schemas } from "../../api/client";
import { Effective } from "../../shared/Effective";
import { Table } from "../../ui/Table";

/** Every entry of a path: who, what it says, what the mask leaves of it, where it comes from. */
export function Entries({ label, lines }: { label: string; lines: readonly Schemas["EntryLine"][] }) {
  return (
    <Table label={label} columns={["Who", "Rights", "Counts", "Where from"]}>
      {lines.map((l) => (
        <tr key={l.text}>
          <td>
            {l.who}
            {l.unknown ? <em className="text-opens"> (no longer exists)</em> : null}
            <code className="block text-muted">{l.text}</code>
          </td>
          <td>
            <code>{l.rights}</code>
          </td>
          <td>
            <Effective entry={l} />
            {l.effective === l.rights ? null : (
              <span className="block text-xs text-muted">the mask takes the rest</span>
            )}
          </td>
          <td className="text-sm">{l.origin}</td>
        </tr>
      ))}
    </Table>
  );
}
