import type { Schemas } from "../../api/client";
import { Above } from "./Above";
import { Grants } from "../parts/Grants";

/** The entries of a path's list, and the folders that they were inherited from. */
export function Lines({ sight }: { sight: Schemas["Sight"] }) {
  const lines = sight.entries ?? [];
  return (
    <>
      {lines.length > 0 ? (
        <>
          <h3 className="mt-4 mb-1 font-semibold">Entries</h3>
          <Grants lines={lines} folder={sight.kind === "folder"} />
        </>
      ) : null}
      <h3 className="mt-4 mb-1 font-semibold">Where they come from</h3>
      <Above sight={sight} />
    </>
  );
}
