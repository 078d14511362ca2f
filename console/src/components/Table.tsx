import type { ReactNode } from "react";

type Column = string | { name: string; figure?: boolean; wide?: string; hidden?: boolean };

/** A table that scrolls by itself where the window is narrow. */
export function Table({ columns, fixed = false, children }: { columns: readonly Column[]; fixed?: boolean; children: ReactNode }) {
  return (
    <div className="relative overflow-x-auto">
      <table className={fixed ? "min-w-3xl table-fixed" : ""}>
        <thead>
          <tr>
            {columns.map((c) => {
              const { name, figure, wide, hidden } = typeof c === "string" ? { name: c } : { figure: false, wide: "", hidden: false, ...c };
              return (
                <th key={name} scope="col" className={`${figure ? "figure" : ""} ${wide ?? ""}`}>
                  {hidden ? <span className="sr-only">{name}</span> : name}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}
