import type { Schemas } from "../../api/client";
import { declaredMode } from "./model";
import { NoSuch } from "../../shared/NoSuch";
import { Differs } from "./Differs";
import { TallyGrid } from "../../shared/TallyGrid";
import { Time } from "../../ui/Time";
import { schemeOf } from "../../schemes";

/** What one path is and grants, in every way of saying it. */
export function Permissions({ sight }: { sight: Schemas["Sight"] }) {
  const a = sight.access;
  const scheme = schemeOf(a);
  const declared = declaredMode(sight.findings);
  return (
    <>
      <Differs findings={sight.findings ?? []} host={sight.origin.host ?? ""} />
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        {a?.mode ? <TallyGrid mode={a.mode} other={declared} large /> : null}
        <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-0.5">
          <dt className="text-muted">kind</dt>
          <dd>
            {sight.kind}
            {sight.target ? (
              <>
                {" "}
                to <code>{sight.target}</code>
              </>
            ) : null}
          </dd>
          {a ? (
            <>
              <dt className="text-muted">owner</dt>
              <dd>
                {a.owner}
                <NoSuch when={a.unknown?.includes("owner")} />
              </dd>
              <scheme.Facts view={a} />
              {a.flags?.length ? (
                <>
                  <dt className="text-muted">flags</dt>
                  <dd>{a.flags.join(", ")}</dd>
                </>
              ) : null}
            </>
          ) : null}
          {sight.withheld?.length ? (
            <>
              <dt className="text-muted">{scheme.outside}</dt>
              <dd>{sight.withheld.join(", ")}</dd>
            </>
          ) : null}
          {sight.modified ? (
            <>
              <dt className="text-muted">modified</dt>
              <dd>
                <Time at={sight.modified} />
                {sight.kind === "file" ? `, ${(sight.size ?? 0).toLocaleString()} bytes` : ""}
              </dd>
            </>
          ) : null}
          {sight.share ? (
            <>
              <dt className="text-muted">share lets</dt>
              <dd>
                {sight.share.map((e) => (
                  <code key={e} className="block">
                    {e}
                  </code>
                ))}
              </dd>
            </>
          ) : null}
          {sight.gap ? (
            <>
              <dt className="text-muted">not read</dt>
              <dd>{sight.gap}</dd>
            </>
          ) : null}
        </dl>
      </div>
      <h3 className="mt-4 mb-1 font-semibold">In words</h3>
      <ul className="list-disc pl-5">
        {sight.words?.map((w) => (
          <li key={w}>{w}</li>
        ))}
      </ul>
      <scheme.Lines sight={sight} />
      {sight.notes?.map((n) => (
        <p key={n} className="mt-2 text-sm">
          Note: {n}.
        </p>
      ))}
    </>
  );
}
