/** Yes or no as a tally cell and a word, or that nobody knows; what would change is said beside it. */
export function Answered({ now, then, unknown = false }: { now: boolean; then?: boolean; unknown?: boolean }) {
  const cell = (on: boolean) => (
    <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true" className="inline-block">
      <rect x="1" y="1" width="8" height="8" rx="1" fill={on ? "var(--color-ink)" : "none"} stroke="var(--color-ink)" opacity={on ? 1 : 0.5} />
    </svg>
  );
  const changes = then !== undefined && then !== now;
  return (
    <span className="inline-flex flex-col items-start gap-0.5 whitespace-nowrap">
      <span className="inline-flex items-center gap-1">{unknown ? "not known" : <>{cell(now)} {now ? "yes" : "no"}</>}</span>
      {changes ? (
        <span className={`inline-flex items-center gap-1 rounded px-1 font-semibold ${then ? "bg-opens-wash text-opens" : "bg-closes-wash text-closes"}`}>
          → {then ? "yes" : "no"}
        </span>
      ) : null}
    </span>
  );
}
