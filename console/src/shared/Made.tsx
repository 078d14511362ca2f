import type { Schemas } from "../api/client";
import { Table } from "../ui/Table";
import { TallyGrid } from "./TallyGrid";

/** What new files and folders get, and why. */
export function Made({ made }: { made: readonly Schemas["New"][] }) {
  return (
    <Table
      label="What new paths get"
      columns={
        made.some((n) => n.mode) ? ["New", "Mode", "Owner and group", "Why"] : ["New", "Entries", "Owner", "Why"]
      }
    >
      {made.map((n) => (
        <tr key={n.kind}>
          <td>{n.kind}</td>
          <td>
            {n.mode ? (
              <span className="inline-flex items-center gap-2 whitespace-nowrap">
                <TallyGrid mode={n.mode} small />
                <code>
                  {n.mode} {n.letters}
                </code>
              </span>
            ) : null}
            {n.mode && n.entries?.length ? (
              <code className="block text-sm text-muted">{n.entries.join(" ")}</code>
            ) : null}
            {n.mode
              ? null
              : n.entries?.map((e, i) => (
                  <code key={i} className="block text-sm">
                    {e}
                  </code>
                ))}
          </td>
          <td>
            {n.owner}
            {n.mode ? <> : {n.group}</> : null}
          </td>
          <td className="text-sm">{n.notes?.join("; ")}</td>
        </tr>
      ))}
    </Table>
  );
}
