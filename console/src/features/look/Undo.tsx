import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Time } from "../../ui/Time";
import { literal } from "../runs/model";
import { useLastRun } from "./queries";

/** Where a run changed a path, the way back to what it found, while the path is as the run left it. */
export function Undo({ sight }: { sight: Schemas["Sight"] }) {
  const host = sight.origin.host ?? "";
  const run = useLastRun(host, sight.path);
  if (!run || JSON.stringify(run.left) !== JSON.stringify(sight.access)) return null;
  return (
    <p className="mb-2 flex flex-wrap items-baseline gap-x-3 text-sm">
      <span>
        As the run <Link to={`/runs/${run.run}`}>{run.title}</Link> left it, started by {run.by},{" "}
        <Time at={run.started} />.
      </span>
      <Link to={`/put-back?${new URLSearchParams({ run: run.run, host, paths: literal(sight.path) })}`}>Undo it…</Link>
    </p>
  );
}
