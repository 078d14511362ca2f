import type { Schemas } from "../api/client";
import { Table } from "./Table";
import { TallyGrid } from "./TallyGrid";

/** What new files and folders get, and why. */
export function Made({ made }: { made: readonly Schemas["New"][] }) {
  return (
    <Table label="What new paths get" columns={["New", "Mode", "Owner and group", "Why"]}>
      {made.map((n) => (
        <tr key={n.kind}>
          <td>{n.kind}</td>
          <td>
            <span className="inline-flex items-center gap-2 whitespace-nowrap"><TallyGrid mode={n.mode} small /><code>{n.mode} {n.letters}</code></span>
            {n.entries?.length ? <code className="block text-sm text-muted">{n.entries.join(" ")}</code> : null}
          </td>
          <td>{n.owner} : {n.group}</td>
          <td className="text-sm">{n.notes?.join("; ")}</td>
        </tr>
      ))}
    </Table>
  );
}
