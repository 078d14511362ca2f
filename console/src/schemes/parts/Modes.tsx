import type { Composed } from "../scheme";
import { ModeField } from "./ModeField";

/** The modes that are to be so: of the path's own kind, and of what is in a folder where that is meant, too. */
export function Modes({ sight, wish, change }: Composed) {
  const folder = sight.kind === "folder";
  const within = wish.depth === "all" || wish.depth === "content";
  const now = sight.access?.mode ?? "0000";
  const set = (key: "files" | "folders") => (value: string) => change({ set: { ...wish.set, [key]: value } });
  return (
    <div className="my-4 flex flex-wrap gap-x-10 gap-y-4">
      {folder ? (
        <ModeField
          label={within ? "Mode of folders" : "Mode"}
          folder
          many={within}
          start={now}
          value={wish.set?.folders ?? ""}
          change={set("folders")}
        />
      ) : null}
      {!folder || within ? (
        <ModeField
          label={folder ? "Mode of files" : "Mode"}
          folder={false}
          many={folder}
          start={folder ? "0640" : now}
          value={wish.set?.files ?? ""}
          change={set("files")}
        />
      ) : null}
    </div>
  );
}
