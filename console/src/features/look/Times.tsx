import type { Look } from "./address";
import type { Snapshot } from "../../api/client";
import { useSnapshotsOf } from "../snapshots/queries";

const near = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

/** The same place at other times: a slider over the snapshots of it, the newest on the right. */
export function Times({ look, of }: { look: Look; of: Snapshot }) {
  const all =
    useSnapshotsOf({ application: of.application, host: of.host })
      .data?.items?.filter((s) => s.state === "ready")
      .toReversed() ?? [];
  const at = all.findIndex((s) => s.id === of.id);
  if (all.length < 2 || at < 0) return null;
  const go = (i: number) => look.set({ snapshot: all[i]?.id ?? of.id });
  const said = (s?: Snapshot) => (s?.taken ? near.format(new Date(s.taken)) : "");
  return (
    <span className="flex items-center gap-2">
      <button
        type="button"
        className="cursor-pointer px-1 disabled:opacity-40"
        disabled={at === 0}
        aria-label="The snapshot before"
        onClick={() => go(at - 1)}
      >
        ◂
      </button>
      <input
        type="range"
        className="w-40 accent-(--color-ink) sm:w-64"
        aria-label="Snapshot, by time"
        aria-valuetext={said(all[at])}
        min={0}
        max={all.length - 1}
        value={at}
        onChange={(e) => go(e.target.valueAsNumber)}
      />
      <button
        type="button"
        className="cursor-pointer px-1 disabled:opacity-40"
        disabled={at === all.length - 1}
        aria-label="The snapshot after"
        onClick={() => go(at + 1)}
      >
        ▸
      </button>
      <span>
        {at + 1} of {all.length}
      </span>
    </span>
  );
}
