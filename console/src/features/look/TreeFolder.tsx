import { useNavigate } from "react-router";
import type { Look } from "./address";
import { within } from "../../shared/paths";
import { useListing } from "./queries";

const most = 500;

/** A folder of the tree, and where it is open the folders in it. */
export function TreeFolder({
  look,
  path,
  name,
  level,
  at,
  stop,
  isOpen,
  turn,
}: {
  look: Look;
  path: string;
  name: string;
  level: number;
  at: string; // the folder that is looked at
  stop: boolean; // where the Tab key leads into the tree, or the way there
  isOpen: (path: string) => boolean;
  turn: (path: string, on: boolean) => void;
}) {
  const navigate = useNavigate();
  const open = isOpen(path);
  const list = useListing(look.where, path, "", open);
  const folders = list.data?.pages.flatMap((p) => p.items ?? []).filter((p) => p.kind === "folder") ?? [];
  const inside = open && folders.some((f) => within(at, f.path));
  const go = () => void navigate(look.address({ path, tab: "" }));
  return (
    <li
      role="treeitem"
      aria-level={level}
      aria-expanded={open}
      aria-selected={path === at}
      tabIndex={stop && !inside ? 0 : -1}
      onKeyDown={(e) => {
        if (e.key !== "Enter" || e.target !== e.currentTarget) return;
        e.preventDefault();
        go();
      }}
    >
      <span
        className={`flex min-h-[24px] items-center gap-1 ${path === at ? "bg-sheet font-semibold" : ""}`}
        style={{ paddingLeft: `${(level - 1) * 0.8}rem` }}
      >
        <button
          type="button"
          data-turn
          tabIndex={-1}
          aria-hidden="true"
          className="min-h-[24px] w-[24px] shrink-0 cursor-pointer"
          onClick={() => turn(path, !open)}
        >
          {open ? "▾" : "▸"}
        </button>
        <button type="button" tabIndex={-1} className="cursor-pointer truncate text-left hover:underline" onClick={go}>
          <code>{name}</code>
        </button>
      </span>
      {list.error && open ? <span className="pl-8 text-muted">{list.error.message}</span> : null}
      {folders.length > 0 && open ? (
        <ul role="group">
          {folders.slice(0, most).map((f) => (
            <TreeFolder
              key={f.path}
              look={look}
              path={f.path}
              name={f.name}
              level={level + 1}
              at={at}
              stop={stop && inside && within(at, f.path)}
              isOpen={isOpen}
              turn={turn}
            />
          ))}
        </ul>
      ) : null}
      {open && (folders.length > most || list.hasNextPage) ? (
        <span className="pl-8 text-muted">and more: see the listing</span>
      ) : null}
    </li>
  );
}
