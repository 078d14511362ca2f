import type { Listed } from "../api/pages";

/** Says what of a list is not shown, and how to have all of it. */
export function Rest({ of, command }: { of: Listed<unknown> | undefined; command: string }) {
  if (!of?.next) return null;
  return (
    <p className="mt-2 text-sm text-muted">
      {of.items.length.toLocaleString()}
      {of.total > of.items.length ? ` of ${of.total.toLocaleString()}` : ""} are shown; all of them:{" "}
      <code>{command}</code>
    </p>
  );
}
