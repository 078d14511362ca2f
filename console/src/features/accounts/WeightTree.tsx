import { useState } from "react";
import { Link } from "react-router";
import { useWeights } from "../look/queries";
import type { Where } from "../look/model";
import { Note } from "../../ui/Note";

interface Asked {
  where: Where;
  account: string;
  operation: string;
}

/** What is in a folder by how much of it somebody holds; a folder opens into its own. */
function Level({ asked, path, whole }: { asked: Asked; path: string; whole: number }) {
  const below = useWeights(asked.where, path, asked.account, asked.operation);
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set());
  const weights = below.data?.weights ?? [];
  // A root by itself is open, the others are not.
  const alone = path === "" && weights.length === 1;
  const isOpen = (p: string) => turned.has(p) !== alone;
  const most = whole || Math.max(below.data?.held ?? 0, 1);
  const toggle = (p: string) =>
    setTurned((s) => (s.has(p) ? new Set([...s].filter((x) => x !== p)) : new Set([...s, p])));
  const address = (p: string) =>
    `/look?${new URLSearchParams({ ...asked.where, path: p, for: asked.account }).toString()}`;
  if (below.isPending)
    return (
      <p className="py-1 text-sm text-muted" role="status">
        Looking…
      </p>
    );
  return (
    <>
      <Note error={below.error} />
      {below.data && weights.length === 0 ? (
        <p className="py-1 text-sm text-muted">
          Nothing{path ? " in there" : ""}
          {below.data.stopped ? `: ${below.data.stopped}` : ""}.
        </p>
      ) : null}
      <ul>
        {weights.map((w) => (
          <li key={w.path}>
            <div className="grid grid-cols-[1.5rem_minmax(0,1fr)_5rem_9rem] items-center gap-x-2 border-b border-line py-1">
              {w.folder ? (
                <button
                  type="button"
                  className="cursor-pointer"
                  aria-expanded={isOpen(w.path)}
                  aria-label={`What is in ${w.path}`}
                  onClick={() => toggle(w.path)}
                >
                  {isOpen(w.path) ? "▾" : "▸"}
                </button>
              ) : (
                <span />
              )}
              <Link to={address(w.path)} className="min-w-0">
                <code>{path === "" ? w.path : w.path.slice(w.path.lastIndexOf("/") + 1)}</code>
              </Link>
              <span
                className="text-right tabular-nums"
                title={`${w.held.toLocaleString()} of ${w.looked.toLocaleString()} paths`}
              >
                {w.held.toLocaleString()}
              </span>
              <svg viewBox="0 0 100 8" preserveAspectRatio="none" className="h-2 w-full" aria-hidden="true">
                <rect width="100" height="8" fill="var(--color-line)" opacity=".5" />
                <rect width={Math.max((100 * w.held) / most, 0.7)} height="8" fill="var(--color-ink)" />
              </svg>
            </div>
            {isOpen(w.path) ? (
              <div className="pl-5">
                <Level asked={asked} path={w.path} whole={most} />
              </div>
            ) : null}
          </li>
        ))}
      </ul>
    </>
  );
}

/** A tree of what somebody can do something with, by how much it is. */
export function WeightTree({ where, account, operation }: Asked) {
  return <Level key={`${account}${operation}`} asked={{ where, account, operation }} path="" whole={0} />;
}
