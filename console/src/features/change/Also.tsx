import type { Wish } from "../../shared/wish";

/** What is meant besides what is composed, such as passing through the folders on the way. */
export function Also({ wishes, leave }: { wishes: readonly Wish[]; leave: (index: number) => void }) {
  if (wishes.length === 0) return null;
  const says = (w: Wish) => [
    ...(w.entries?.give ?? []),
    ...(w.grants?.give ?? []),
    ...(w.grants?.without ?? []).map((who) => `no entry for ${who}`),
    ...Object.entries(w.set ?? {}).flatMap(([key, value]) => (value ? [`${key} ${value}`] : [])),
  ];
  return (
    <section aria-labelledby="also" className="mt-3">
      <h3 id="also" className="font-semibold">
        And also
      </h3>
      <ul>
        {wishes.map((w, i) => (
          <li key={i} className="flex flex-wrap items-baseline gap-x-2 border-t border-line py-1 text-sm">
            <code>{w.paths.join(", ")}</code> <code>{says(w).join(", ")}</code>
            <button
              type="button"
              className="ml-auto cursor-pointer px-1 underline"
              aria-label={`Leave out what is meant of ${w.paths.join(", ")}`}
              onClick={() => leave(i)}
            >
              leave out
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
