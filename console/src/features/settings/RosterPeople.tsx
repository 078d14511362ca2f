import type { Schemas } from "../../api/client";
import { KeyKind } from "../../shared/KeyKind";
import { Table } from "../../ui/Table";
import { sayRight } from "./model";

/** The people of an edition of the roster: what they may do, and by which keys. */
export function RosterPeople({ edition }: { edition: Schemas["RosterEdition"] }) {
  return (
    <Table label={`People of edition ${edition.edition}`} columns={["Who", "May", "Keys"]}>
      {edition.people.map((p) => (
        <tr key={p.name}>
          <td>{p.name}</td>
          <td>
            {p.may.length ? null : "sign editions of the roster alone"}
            {p.may.map((m) => (
              <div key={m}>{sayRight(m)}</div>
            ))}
          </td>
          <td>
            {p.keys.map((k) => (
              <div key={k.text}>
                {k.name} <KeyKind kind={k.kind} /> <code className="text-sm">{k.fingerprint}</code>
              </div>
            ))}
          </td>
        </tr>
      ))}
    </Table>
  );
}
