const exact = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "medium" });
const near = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

/** A time in the viewer's zone, the exact one on hover. */
export function Time({ at, seconds }: { at?: string | null; seconds?: boolean }) {
  if (!at) return <span className="text-muted">never</span>;
  return (
    <time dateTime={at} title={at} className="whitespace-nowrap">
      {(seconds ? exact : near).format(new Date(at))}
    </time>
  );
}
