import type { Schemas } from "../api/client";
import { Time } from "../ui/Time";

/** Who did something to a path, as far as the host's kernel told. */
export function By({ act }: { act?: Schemas["Act"] }) {
  if (!act) return null;
  const who = act.login && act.login !== act.account ? `${act.account}, logged in as ${act.login},` : act.account;
  return (
    <span className="text-sm text-muted">
      {act.others?.length ? (
        <>
          Among those who touched it: {act.others.join("; ")}; last {act.what}{" "}
        </>
      ) : (
        <>Touched, {act.what} </>
      )}
      {act.command ? (
        <>
          by <strong>{who}</strong> with <code title={act.program}>{act.command}</code> (process {act.pid})
        </>
      ) : (
        "by a process that was gone at once"
      )}
      , <Time at={act.at} seconds />
    </span>
  );
}
