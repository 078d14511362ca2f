import type { Schemas } from "../../api/client";
import { Entries } from "./Entries";

/** The entries of a path's list, and those for what is made in it later. */
export function Lines({ sight }: { sight: Schemas["Sight"] }) {
  const lines = sight.entries ?? [];
  const defaults = lines.filter((l) => l.default);
  return (
    <>
      {lines.length > 0 ? (
        <>
          <h3 className="mt-4 mb-1 font-semibold">Entries</h3>
          <Entries label="Entries" lines={lines.filter((l) => !l.default)} />
        </>
      ) : null}
      {defaults.length > 0 ? (
        <>
          <h3 className="mt-4 mb-1 font-semibold">Default entries, for what is made in it later</h3>
          <Entries label="Default entries" lines={defaults} />
        </>
      ) : null}
    </>
  );
}
