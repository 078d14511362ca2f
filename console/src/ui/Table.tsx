import type { ReactNode } from "react";

type Column = string | { name: string; figure?: boolean; wide?: string; hidden?: boolean };

/** A table that scrolls by itself where the window is narrow, by keyboard too. */
export function Table({
  label,
  columns,
  fixed = false,
  children,
}: {
  label: string;
  columns: readonly Column[];
  fixed?: boolean;
  children: ReactNode;
}) {
  return (
    <div className="relative overflow-x-auto" role="region" aria-label={label} tabIndex={0}>
      <table className={fixed ? "min-w-3xl table-fixed" : ""}>
        <thead>
          <tr>
            {columns.map((c) => {
              const { name, figure, wide, hidden } =
                typeof c === "string" ? { name: c } : { figure: false, wide: "", hidden: false, ...c };
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
