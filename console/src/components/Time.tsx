const near = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

/** A time in the viewer's zone, the exact one on hover. */
export function Time({ at }: { at?: string | null }) {
  if (!at) return <span className="text-muted">never</span>;
  return (
    <time dateTime={at} title={at} className="whitespace-nowrap">
      {near.format(new Date(at))}
    </time>
  );
}
