import { useCauses } from "./queries";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Rest } from "../../ui/Rest";
import { Time } from "../../ui/Time";

/** Where new paths keep coming out wrong, and the likely cause. */
export function Causes({ application, host }: { application: string; host: string }) {
  const causes = useCauses(application);
  const rows = causes.data?.items?.filter((c) => !host || c.host === host) ?? [];
  const folders = [...new Set(rows.map((c) => `${c.host}\n${c.folder}`))];
  return (
    <>
      <Note error={causes.error} />
      {causes.data && rows.length === 0 ? (
        <Note>
          Nothing comes back: between the snapshots so far no new path came out wrong, and nothing that was mended is
          wrong again.
        </Note>
      ) : null}
      <ul>
        {folders.map((f) => {
          const here = rows.filter((c) => `${c.host}\n${c.folder}` === f);
          return (
            <li key={f} className="border-b border-line py-3">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <code className="font-semibold">{here[0]!.folder}</code>
                <span className="ml-auto text-sm text-muted">{here[0]!.host}</span>
              </div>
              <ul>
                {here.map((c) => (
                  <li
                    key={`${c.kind} ${c.aspect} ${c.again}`}
                    className="mt-2 grid gap-x-6 gap-y-0.5 sm:grid-cols-[13rem_minmax(0,1fr)]"
                  >
                    <div>
                      <strong>
                        {c.paths.toLocaleString()} {c.again ? "" : "new "}
                        {c.paths === 1 ? c.kind : `${c.kind}s`}
                        {c.again ? " wrong again" : ""}
                      </strong>
                      <div className="text-sm text-muted">
                        in {c.times === 1 ? "one snapshot" : `${c.times.toLocaleString()} snapshots`}, last{" "}
                        <Time at={c.last_seen} />
                      </div>
                    </div>
                    <div>
                      <div>
                        {c.aspect} <code>{c.found}</code> <span className="text-muted">instead of</span>{" "}
                        <code>{c.declared}</code> <span className="text-muted">– such as</span>{" "}
                        <code>{c.example.slice(c.folder.length + 1)}</code>
                      </div>
                      <div>
                        <span className="text-muted">Likely cause:</span> {c.why}.
                      </div>
                      <div>
                        <span className="text-muted">Instead:</span> {c.instead}.
                      </div>
                    </div>
                  </li>
                ))}
              </ul>
            </li>
          );
        })}
      </ul>
      <Rest of={causes.data} command={`idletally drift causes ${application} --all`} />
      <Command text={`idletally drift causes ${application}${host ? ` --host ${host}` : ""}`} />
    </>
  );
}
