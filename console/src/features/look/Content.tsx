import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { declaredMode } from "./model";
import { useListing } from "./queries";
import type { Look } from "./address";
import { EffectMark } from "../../shared/EffectMark";
import { LongList } from "../../ui/LongList";
import { NoSuch } from "../../shared/NoSuch";
import { Note } from "../../ui/Note";
import { schemeOf } from "../../schemes";

/** A path as it is, but for the mode, which is as declared. */
function declared(p: Schemas["Path"]) {
  const mode = declaredMode(p.findings);
  return mode && p.access ? { ...p.access, mode } : undefined;
}

/** What a path grants, as a column of the listing has room for. */
function Grants({ path }: { path: Schemas["Path"] }) {
  if (!path.access) return null;
  const { Cell } = schemeOf(path.access);
  return <Cell view={path.access} declared={declared(path)} />;
}

/** How many findings there are in a folder, and below; its own are told beside it. */
const inside = (p: Schemas["Path"]) => (p.inside?.findings ?? 0) - (p.inside?.waived ?? 0);

/** A folder's content, however long; for an account also what that account can do with it. */
export function Content({ look, folder }: { look: Look; folder: string }) {
  const list = useListing(look.where, folder, look.account, folder !== "" || look.where.snapshot !== undefined);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const hidden = items.filter((p) => p.hidden).length;
  const stopped = list.data?.pages[0]?.stopped;
  return (
    <section aria-labelledby="content">
      <h2 id="content" className="font-bold">
        {folder === "" ? (
          "Roots"
        ) : (
          <>
            In <code>{folder}</code>
          </>
        )}
      </h2>
      <Note error={list.error} />
      {stopped ? (
        <Note>
          {look.account} does not see this listing: {stopped}.
        </Note>
      ) : null}
      {hidden > 0 ? (
        <Note>
          The share hides {hidden === 1 ? "one" : hidden.toLocaleString()} of these from {look.account}:{" "}
          {hidden === 1 ? "it is" : "they are"} marked, and not in the listing that {look.account} gets.
        </Note>
      ) : null}
      <LongList
        label="Content of the folder"
        className="mt-2 h-[40vh] lg:h-[62vh]"
        items={items}
        keyOf={(p) => p.path}
        more={list}
        row={(p) => (
          <div
            className={`grid grid-cols-[3.2rem_8.2rem_minmax(0,1fr)] items-center gap-x-3 py-1 ${p.path === look.path ? "bg-sheet" : ""}`}
          >
            <span className="text-sm text-muted">{p.kind}</span>
            <span>
              <Grants path={p} />
            </span>
            <span className="min-w-0">
              <Link
                to={look.address({ path: p.path, tab: look.tab === "below" && p.kind !== "folder" ? "" : look.tab })}
                aria-current={p.path === look.path ? "true" : undefined}
              >
                <code>{p.name}</code>
              </Link>
              {p.access?.entries?.length || p.access?.defaults?.length ? (
                <span title="access entries beyond the mode"> +</span>
              ) : null}
              {p.target ? <code className="text-muted"> → {p.target}</code> : null}
              <span className="block text-xs text-muted">
                {p.access?.owner}
                <NoSuch when={p.access?.unknown?.includes("owner")} />
                {schemeOf(p.access).group ? (
                  <>
                    :{p.access?.group}
                    <NoSuch what="group" when={p.access?.unknown?.includes("group")} />
                  </>
                ) : null}
                {p.access?.flags?.length ? ` · ${p.access.flags.join(", ")}` : ""}
                {p.gap ? ` · ${p.gap}` : ""}
                {p.may ? ` · may ${p.may.join(", ") || "nothing"}` : ""}
                {p.unknown ? ` · not known: ${p.unknown.join(", ")}` : ""}
                {p.findings?.map((f) => (
                  <span
                    key={f.aspect}
                    className="ml-1.5 inline-block"
                    title={`${f.aspect}: declared ${f.declared}, found ${f.found}`}
                  >
                    <EffectMark word={f.word} />
                  </span>
                ))}
                {inside(p) > 0 ? <strong> · {inside(p).toLocaleString()} findings in it</strong> : null}
                {p.hidden ? <strong className="text-closes"> · ▼ hidden</strong> : null}
                {p.unopened ? <strong className="text-opens"> · sees it, cannot open it</strong> : null}
              </span>
            </span>
          </div>
        )}
      />
      {items.length === 0 && list.data ? <Note>The folder is empty.</Note> : null}
    </section>
  );
}
