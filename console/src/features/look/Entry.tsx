import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { declaredMode } from "./model";
import type { Look } from "./address";
import { Checkbox } from "../../ui/Checkbox";
import { EffectMark } from "../../shared/EffectMark";
import { NoSuch } from "../../shared/NoSuch";
import { schemeOf } from "../../schemes";

type Path = Schemas["Path"];

/** A path as it is, but for the mode, which is as declared. */
function declared(p: Path) {
  const mode = declaredMode(p.findings);
  return mode && p.access ? { ...p.access, mode } : undefined;
}

/** What a path grants, as a column of the listing has room for. */
function Grants({ path }: { path: Path }) {
  if (!path.access) return null;
  const { Cell } = schemeOf(path.access);
  return <Cell view={path.access} declared={declared(path)} />;
}

function Owners({ path }: { path: Path }) {
  const { access } = path;
  return (
    <>
      {access?.owner}
      <NoSuch when={access?.unknown?.includes("owner")} />
      {schemeOf(access).group ? (
        <>
          :{access?.group}
          <NoSuch what="group" when={access?.unknown?.includes("group")} />
        </>
      ) : null}
      {access?.flags?.length ? ` · ${access.flags.join(", ")}` : ""}
    </>
  );
}

/** How many findings there are in a folder, and below; its own are told beside it. */
const inside = (p: Path) => (p.inside?.findings ?? 0) - (p.inside?.waived ?? 0);

/** What else there is to say of a path: what could not be read, what somebody may, how it differs. */
function Said({ path }: { path: Path }) {
  return (
    <>
      {path.gap ? ` · ${path.gap}` : ""}
      {path.may ? ` · may ${path.may.join(", ") || "nothing"}` : ""}
      {path.unknown ? ` · not known: ${path.unknown.join(", ")}` : ""}
      {path.findings?.map((f) => (
        <span
          key={f.aspect}
          className="ml-1.5 inline-block"
          title={`${f.aspect}: declared ${f.declared}, found ${f.found}`}
        >
          <EffectMark word={f.word} />
        </span>
      ))}
      {inside(path) > 0 ? <strong> · {inside(path).toLocaleString()} findings in it</strong> : null}
      {path.hidden ? <strong className="text-closes"> · ▼ hidden</strong> : null}
      {path.unopened ? <strong className="text-opens"> · sees it, cannot open it</strong> : null}
    </>
  );
}

/** One line of a listing. Who may change paths marks some, to change them together. */
export function Entry({
  path,
  look,
  marked,
  mark,
}: {
  path: Path;
  look: Look;
  marked: boolean;
  mark?: (on: boolean) => void;
}) {
  const at = path.path === look.path;
  const more = (path.access?.entries?.length ?? 0) + (path.access?.defaults?.length ?? 0) > 0;
  return (
    <div className={`grid grid-cols-[5rem_8.2rem_minmax(0,1fr)] items-center gap-x-3 py-1 ${at ? "bg-sheet" : ""}`}>
      <span className="flex items-center gap-1 text-sm text-muted">
        {mark ? (
          <Checkbox checked={marked} onChange={(e) => mark(e.target.checked)} aria-label={`Mark ${path.name}`} />
        ) : null}
        {path.kind}
      </span>
      <span>
        <Grants path={path} />
      </span>
      <span className="min-w-0">
        <Link
          to={look.address({
            path: path.path,
            tab: look.tab === "below" && path.kind !== "folder" ? "" : look.tab,
          })}
          aria-current={at ? "true" : undefined}
        >
          <code>{path.name}</code>
        </Link>
        {more ? <span title="access entries beyond the mode"> +</span> : null}
        {path.target ? <code className="text-muted"> → {path.target}</code> : null}
        <span className="block text-xs text-muted">
          <Owners path={path} />
          <Said path={path} />
        </span>
      </span>
    </div>
  );
}
