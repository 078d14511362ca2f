import { drop, type EntryChange } from "../../shared/wish";

/** What is meant of entries so far, each to be taken back. */
export function Meant({ of, change }: { of: EntryChange | undefined; change: (next: EntryChange) => void }) {
  const lines = [
    ...(of?.give ?? []).map((text) => ({ text, says: "is to be there" })),
    ...(of?.without ?? []).map((text) => ({ text, says: "is to have no entry" })),
  ];
  if (lines.length === 0) return null;
  return (
    <ul className="my-2" aria-label="What is meant of entries">
      {lines.map((l) => (
        <li key={l.text + l.says} className="flex flex-wrap items-baseline gap-x-2 border-t border-line py-1 text-sm">
          <code>{l.text}</code> <span className="text-muted">{l.says}</span>
          <button
            type="button"
            className="ml-auto cursor-pointer px-1 underline"
            aria-label={`Take back ${l.text}`}
            onClick={() => change(drop(of, l.text))}
          >
            take back
          </button>
        </li>
      ))}
    </ul>
  );
}
