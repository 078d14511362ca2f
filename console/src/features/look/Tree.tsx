import { useState, type KeyboardEvent } from "react";
import { useSnapshotsOf } from "../snapshots/queries";
import type { Look } from "./address";
import { branchesOf } from "./model";
import { TreeFolder } from "./TreeFolder";
import { useListing } from "./queries";

/** Where a key leads among the folders that are in sight: to another one, or to open and close this one. */
function onKey(e: KeyboardEvent<HTMLElement>) {
  const at = (e.target as HTMLElement).closest<HTMLElement>("[role=treeitem]");
  if (!at) return;
  const all = [...e.currentTarget.querySelectorAll<HTMLElement>("[role=treeitem]")];
  const i = all.indexOf(at);
  const open = at.getAttribute("aria-expanded") === "true";
  const moves: Record<string, () => HTMLElement | null | undefined> = {
    ArrowDown: () => all[i + 1],
    ArrowUp: () => all[i - 1],
    Home: () => all[0],
    End: () => all.at(-1),
    ArrowRight: () => (open ? at.querySelector<HTMLElement>("[role=treeitem]") : at),
    ArrowLeft: () => (open ? at : at.parentElement?.closest<HTMLElement>("[role=treeitem]")),
  };
  const to = moves[e.key]?.();
  if (!to) return;
  e.preventDefault();
  if (to === at) at.querySelector<HTMLElement>("[data-turn]")?.click();
  else to.focus();
}

/** The folders of a host or a snapshot as a tree, open as far as the path that is looked at. */
export function Tree({ look, folder }: { look: Look; folder: string }) {
  const [turned, setTurned] = useState<ReadonlyMap<string, boolean>>(new Map());
  const roots = useRoots(look, folder);
  const way = branchesOf(folder);
  return (
    <nav aria-label="Folders" className="text-sm">
      {/* A tree is one stop of the Tab key; from there arrows lead on. */}
      <ul
        role="tree"
        aria-label="Folders"
        className="max-h-[40vh] overflow-auto border-y border-line py-1 lg:max-h-[62vh]"
        onKeyDown={onKey}
      >
        {roots.map((r, i) => (
          <TreeFolder
            key={r}
            look={look}
            path={r}
            name={r}
            level={1}
            at={folder}
            stop={roots.some((x) => way.includes(x)) ? way.includes(r) : i === 0}
            isOpen={(path) => turned.get(path) ?? way.includes(path)}
            turn={(path, on) => setTurned(new Map([...turned, [path, on]]))}
          />
        ))}
      </ul>
    </nav>
  );
}

/** Where the tree begins: the roots of a snapshot; of a host those that its snapshots have, or the topmost folder. */
function useRoots(look: Look, folder: string): string[] {
  const { host, snapshot } = look.where;
  const list = useListing(look.where, "", "", snapshot !== undefined);
  const taken = useSnapshotsOf({ host: host ?? "" }).data?.items ?? [];
  if (snapshot) return (list.data?.pages ?? []).flatMap((p) => p.items ?? []).map((p) => p.path);
  const known = [...new Set(taken.flatMap((s) => s.roots ?? []))].sort();
  const way = branchesOf(folder);
  const top = way[1] ?? way[0]!;
  return known.some((r) => way.includes(r)) ? known : [...known, top].sort();
}
