import { Link } from "react-router";
import type { Schemas } from "../../api/client";

type Cell = Schemas["Cell"];

/** The shape that says how an application stands on a host; each is told in words, too. */
function mark(c: Cell) {
  if (c.state === "never") return { shape: "○", tone: "text-muted", says: c.says };
  if (c.state === "failed" || c.state === "old" || c.state === "behind")
    return { shape: "?", tone: "text-ink", says: c.says };
  if (c.findings === 0) return { shape: c.state === "declared" ? "·" : "◌", tone: "text-muted", says: c.says };
  const parts = [`${c.findings.toLocaleString()} findings`];
  if (c.opens) parts.push(`${c.opens.toLocaleString()} open`);
  if (c.closes) parts.push(`${c.closes.toLocaleString()} close`);
  if (c.grave) parts.push(`${c.grave.toLocaleString()} grave`);
  if (c.unread) parts.push(`${c.unread.toLocaleString()} unread`);
  const says = parts.join(", ");
  if (c.opens && c.closes) return { shape: "◆", tone: "bg-opens-wash text-opens", says };
  if (c.opens) return { shape: "▲", tone: "bg-opens-wash text-opens", says };
  if (c.closes) return { shape: "▼", tone: "bg-closes-wash text-closes", says };
  return { shape: "▪", tone: "text-ink", says };
}

/** An application on all of its hosts at one glance: a cell for each, those that open most first. */
export function Cells({
  application,
  cells,
  more,
  here = false,
}: {
  application: string;
  cells: readonly Cell[];
  more: number;
  here?: boolean;
}) {
  const few = cells.length <= 12;
  return (
    <ul className={few ? "flex flex-wrap gap-2" : "flex flex-wrap gap-0.5"} aria-label={`${application} on its hosts`}>
      {cells.map((c) => {
        const m = mark(c);
        return (
          <li key={c.host}>
            <Link
              to={`/drift/${application}?host=${c.host}`}
              title={`${c.host}: ${m.says}`}
              className={
                few
                  ? "flex items-baseline gap-2 rounded border border-line px-2 py-1 no-underline hover:border-ink"
                  : `grid size-6 place-items-center rounded-sm border border-line text-xs font-bold no-underline hover:border-ink ${m.tone}`
              }
            >
              {few ? (
                <>
                  <span aria-hidden="true" className={`rounded px-1 font-bold ${m.tone}`}>
                    {m.shape}
                  </span>
                  <span>{c.host}</span>
                  <span className="text-sm text-muted">{m.says}</span>
                </>
              ) : (
                <>
                  <span
                    aria-hidden="true"
                    className={
                      c.findings >= 1000
                        ? "text-lg leading-none"
                        : c.findings >= 100
                          ? "text-sm"
                          : c.findings >= 10
                            ? "text-xs"
                            : "text-[0.55rem]"
                    }
                  >
                    {m.shape}
                  </span>
                  <span className="sr-only">
                    {c.host}: {m.says}
                  </span>
                </>
              )}
            </Link>
          </li>
        );
      })}
      {more > 0 ? (
        <li className="self-center pl-2 text-sm">
          {here ? (
            `and ${more.toLocaleString()} more: look at one by its name`
          ) : (
            <Link to={`/drift/${application}`}>and {more.toLocaleString()} more</Link>
          )}
        </li>
      ) : null}
    </ul>
  );
}
