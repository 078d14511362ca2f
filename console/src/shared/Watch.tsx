import type { Schemas } from "../api/client";

/** Whether what changes on a host is heard of at once, and why not. */
export function Watch({ state }: { state?: Schemas["WatchState"] }) {
  if (!state) return <span className="text-muted">not told</span>;
  return (
    <>
      {state.watching ? (state.notes?.length ? "in part" : "yes") : "no"}
      {state.notes?.map((n) => (
        <span key={n} className="block text-sm text-muted">
          {n}
        </span>
      ))}
    </>
  );
}
