import type { ReactNode } from "react";

/** The entries that there are, each to be taken away. */
export function TakeAway({
  entries,
  gone,
  take,
}: {
  entries: readonly { who: string; says: ReactNode }[];
  gone: readonly string[] | undefined; // whose entries are to go
  take: (who: string) => void;
}) {
  return (
    <ul>
      {entries.map((e, i) => (
        <li key={i} className="flex flex-wrap items-baseline gap-x-3 border-t border-line py-1">
          <span className={gone?.includes(e.who) ? "line-through" : ""}>{e.says}</span>
          <button
            type="button"
            className="ml-auto cursor-pointer px-1 text-sm underline disabled:opacity-50"
            disabled={gone?.includes(e.who)}
            aria-label={`Take away what ${e.who} has`}
            onClick={() => take(e.who)}
          >
            take away
          </button>
        </li>
      ))}
    </ul>
  );
}
