import { useOriginals } from "../runs/queries";
import { Note } from "../../ui/Note";

/** How many paths of a host a pattern picks out of what a run found. */
function OnHost({ run, host, pattern }: { run: string; host: string; pattern: string }) {
  const list = useOriginals(run, host, pattern);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <>
      <Note error={list.error} />
      <p className="text-sm">
        {host}
        {pattern ? (
          <>
            , <code>{pattern}</code>
          </>
        ) : null}
        :{" "}
        {list.isPending
          ? "…"
          : `${items.length.toLocaleString()}${list.hasNextPage ? " or more" : ""} ${items.length === 1 ? "path" : "paths"}`}
        {items[0] ? (
          <span className="text-muted">
            , such as <code>{items[0].path}</code> to {items[0].original.owner}:{items[0].original.group}{" "}
            <code>{items[0].original.mode}</code>
          </span>
        ) : null}
      </p>
    </>
  );
}

/** What would be put back of a run. What somebody changed since, the plan leaves, and says so. */
export function BackToRun({ run, hosts, paths }: { run: string; hosts: readonly string[]; paths: readonly string[] }) {
  return (
    <div className="mt-2" role="status">
      {hosts.flatMap((host) =>
        (paths.length ? paths : [""]).map((p) => <OnHost key={host + p} run={run} host={host} pattern={p} />),
      )}
      <p className="mt-1 text-sm text-muted">
        What somebody changed since the run is left as it is, and the plan says so.
      </p>
    </div>
  );
}
