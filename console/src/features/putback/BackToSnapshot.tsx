import { Link } from "react-router";
import type { Snapshot } from "../../api/client";
import { useTurnover } from "../snapshots/queries";
import { Note } from "../../ui/Note";

/** How the newest snapshot of the host differs from the one to return to. */
export function BackToSnapshot({ snapshots, snapshot }: { snapshots: readonly Snapshot[]; snapshot: string }) {
  const then = snapshots.find((s) => s.id === snapshot);
  const newest = snapshots.find((s) => then && s.host === then.host && s.application === then.application);
  const turnover = useTurnover(snapshot, newest && newest.id !== snapshot ? newest.id : "");
  const t = turnover.data;
  if (then && newest?.id === snapshot)
    return <Note>This is the newest snapshot of {then.host}: it is as it was then, as far as anybody looked.</Note>;
  return (
    <div className="mt-2 text-sm" role="status">
      <Note error={turnover.error} />
      {t ? (
        <>
          <p>
            Since then {t.changed.toLocaleString()} {t.changed === 1 ? "path was" : "paths were"} changed on {t.to.host}
            ; {t.added.toLocaleString()} came and {t.gone.toLocaleString()} went, which no plan undoes.
          </p>
          <ul>
            {t.groups?.slice(0, 8).map((g, i) => (
              <li key={i} className="border-b border-line py-1">
                {g.count.toLocaleString()} × {g.after_kind ?? g.before_kind}, in <code>{g.folder}</code>, such as{" "}
                <Link to={`/look?snapshot=${t.to.id}&path=${encodeURIComponent(g.example)}`}>
                  <code>{g.example}</code>
                </Link>
              </li>
            ))}
          </ul>
        </>
      ) : (
        <p className="text-muted">Comparing…</p>
      )}
    </div>
  );
}
