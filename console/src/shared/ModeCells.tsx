const rows = ["read", "write", "execute"];
const classes = ["owner", "group", "others"];
const special = ["set-user-ID", "set-group-ID", "sticky"];

/** The tally grid at hand size: each of its twelve cells is a switch. */
export function ModeCells({ mode, change }: { mode: string; change: (octal: string) => void }) {
  const m = Number.parseInt(mode, 8);
  const flip = (bit: number) => change((m ^ bit).toString(8).padStart(4, "0"));
  const cell = (bit: number, name: string, notch: boolean) => (
    <button
      type="button"
      role="switch"
      aria-checked={(m & bit) !== 0}
      aria-label={name}
      title={name}
      className={`cursor-pointer border-2 border-ink ${notch ? "h-4.5 w-9 rounded-b-full" : "size-9 rounded"} ${m & bit ? "bg-ink" : "bg-sheet opacity-60 hover:opacity-100"}`}
      onClick={() => flip(bit)}
    />
  );
  return (
    <table className="w-auto">
      <caption className="sr-only">The mode's twelve bits</caption>
      <tbody>
        <tr>
          <td className="border-0 pr-2 text-right text-xs text-muted">special</td>
          {special.map((name, c) => (
            <td key={name} className="border-0 p-1">
              {cell(0o4000 >> c, name, true)}
            </td>
          ))}
        </tr>
        {rows.map((row, r) => (
          <tr key={row}>
            <th scope="row" className="border-0 py-1 pr-2 text-right font-normal">
              {row}
            </th>
            {classes.map((c, i) => (
              <td key={c} className="border-0 p-1">
                {cell(0o400 >> (3 * i + r), `${c}: ${row}`, false)}
              </td>
            ))}
          </tr>
        ))}
        <tr>
          <td className="border-0" />
          {classes.map((c) => (
            <td key={c} className="border-0 p-0 text-center text-xs text-muted">
              {c}
            </td>
          ))}
        </tr>
      </tbody>
    </table>
  );
}
