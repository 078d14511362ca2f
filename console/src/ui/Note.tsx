import type { ReactNode } from "react";

/** Something that has to be read: an error, or what to do first. */
export function Note({ error, children }: { error?: Error | string | null | undefined; children?: ReactNode }) {
  if (!error && !children) return null;
  return (
    <div
      role={error ? "alert" : "note"}
      className={`my-4 rounded border-l-4 bg-sheet px-4 py-3 ${error ? "border-opens" : "border-line"}`}
    >
      {error ? (error instanceof Error ? error.message : error) : children}
    </div>
  );
}
