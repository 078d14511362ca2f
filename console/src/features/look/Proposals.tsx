import { useState } from "react";
import { Link } from "react-router";
import type { Person, Schemas } from "../../api/client";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { addressOf } from "../../shared/wish";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { DraftOf } from "./DraftOf";
import { flagsOf, quoted, type Where } from "./model";
import { useProposals } from "./queries";

type Proposal = Schemas["Proposal"];

/** On how many paths of the host somebody can do the same then, where that was counted. */
function opens(p: Proposal): string {
  if (p.elsewhere === undefined) return "";
  const paths = (n: number) => (n === 1 ? "1 path" : `${n.toLocaleString()} paths`);
  return `: opens ${paths(p.elsewhere)}${p.anybody === undefined ? "" : `, to everyone ${paths(p.anybody)}`}`;
}

/** Whom else a proposal lets in, in words. */
function besides(p: Proposal): string {
  if (p.everyone) return "and everyone else could, too";
  if (p.means === "join") return "wherever that group is let in";
  if (p.count === 0) return "nobody else could do more";
  const more = p.count - p.others.length;
  return `so could ${p.others.join(", ")}${more > 0 ? ` and ${more.toLocaleString()} more` : ""}`;
}

/** What it would take that an account can do what it cannot, the least first. */
export function Proposals({
  where,
  path,
  account,
  operation,
  me,
}: {
  where: Where;
  path: string;
  account: string;
  operation: string;
  me: Person;
}) {
  const [open, setOpen] = useState(false);
  const found = useProposals(where, path, account, operation, open);
  const list = found.data?.proposals ?? [];
  return (
    <div className="mt-3">
      <Button onClick={() => setOpen(!open)} aria-expanded={open}>
        What would it take?
      </Button>
      {open ? (
        <section aria-label="What would it take" className="mt-3" aria-live="polite">
          <Note error={found.error} />
          {found.data && list.length === 0 ? (
            <Note>No change of permissions would do: something else denies it.</Note>
          ) : null}
          <ol>
            {list.map((p) => (
              <li key={p.says} className="border-t border-line py-3">
                <p>
                  <strong>{p.says}</strong> <span className="text-muted">{besides(p) + opens(p)}</span>
                </p>
                {p.changes.map((c) => (
                  <div key={c.path} className="mt-2">
                    <code className="text-sm">{c.path}</code>
                    <BeforeAfter before={c.before} after={c.after} />
                  </div>
                ))}
                {found.data?.origin.host && p.wishes?.length ? (
                  <p className="mt-2 text-sm">
                    <Link to={addressOf(found.data.origin.host, p.wishes)}>Compose it further…</Link>
                  </p>
                ) : null}
                {found.data?.origin.host ? (
                  <DraftOf
                    paths={p.changes.map((c) => c.path)}
                    text={p.text ?? ""}
                    host={found.data.origin.host}
                    me={me}
                    title={`Let ${account} ${operation} ${path}`}
                  />
                ) : null}
              </li>
            ))}
          </ol>
          {found.data?.counted ? (
            <p className="text-sm text-muted">
              What they open in all was counted in the snapshot of <Time at={found.data.counted.at} />.
            </p>
          ) : null}
          <Command
            text={`idletally access propose ${flagsOf(where)} ${quoted(account)} ${operation} ${quoted(path)}`}
          />
        </section>
      ) : null}
    </div>
  );
}
