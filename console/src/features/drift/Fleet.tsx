import type { UseQueryResult } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { Verdict } from "../../shared/Verdict";
import { Note } from "../../ui/Note";
import { Cells } from "../overview/Cells";

/** How an application stands on many hosts, before what was found on them. */
export function Fleet({
  standing,
  equal,
}: {
  standing: Schemas["Standing"];
  equal: UseQueryResult<Schemas["PageEqualGroup"]>;
}) {
  const { items, total } = equal.data ?? {};
  return (
    <>
      <Verdict of={standing.verdict} className="mb-2" />
      <div className="mb-4">
        <Cells
          here
          application={standing.name}
          cells={standing.cells ?? []}
          more={standing.hosts - (standing.cells?.length ?? 0)}
        />
      </div>
      <Note error={equal.error} />
      {equal.isPending ? (
        <p className="text-muted" role="status">
          Putting equal ones together…
        </p>
      ) : null}
      {items && total && total > items.length ? (
        <p className="mb-1 text-sm">
          {items.length.toLocaleString()} of {total.toLocaleString()} groups, those on most hosts first: one host has
          all of its own.
        </p>
      ) : null}
    </>
  );
}
