import type { Schemas } from "../../api/client";
import { EffectMark } from "../../shared/EffectMark";
import { Time } from "../../ui/Time";
import { Alike } from "../plans/Alike";
import { Cautions } from "../plans/Cautions";
import { againstBaseline, sentence } from "./model";

const mostGroups = 8;
const mostLeft = 20;

function Who({
  title,
  word,
  list,
  more = 0,
}: {
  title: string;
  word: string;
  list: readonly Schemas["Affected"][];
  more?: number; // that the service does not tell
}) {
  if (list.length === 0) return null;
  return (
    <div className="min-w-0">
      <h3 className="font-semibold">
        <EffectMark word={word} /> {title}
      </h3>
      <ul className="text-sm">
        {list.slice(0, 12).map((a) => (
          <li key={`${a.who} ${a.group}`} className="border-t border-line py-1">
            <strong>
              {a.group ? "group " : ""}
              {a.who}
            </strong>
            : {a.rights.join(", ")}
            {a.paths > 1 ? <span className="text-muted"> · {a.paths.toLocaleString()} paths</span> : null}
          </li>
        ))}
        {list.length + more > 12 ? (
          <li className="text-muted">and {(list.length + more - 12).toLocaleString()} more</li>
        ) : null}
      </ul>
    </div>
  );
}

function Against({ of }: { of: Schemas["ForeseenHost"] }) {
  return (
    <p className="text-sm text-muted">
      {of.host} as seen <Time at={of.taken} />. {of.edition ? againstBaseline(of) : "No baseline is published."}
    </p>
  );
}

/** What changes would come to: how many paths, before and after, who gains and who loses, cautions, what is left. */
export function Outlook({ of, late }: { of: Schemas["Foreseen"]; late: boolean }) {
  const groups = of.groups.length + (of.more_groups ?? 0);
  const left = of.left.length + (of.more_left ?? 0);
  return (
    <div className={late ? "opacity-60" : ""}>
      <p role="status" className="text-lg font-semibold">
        {sentence(of)}
      </p>
      {of.hosts.map((h) => (
        <Against key={h.host} of={h} />
      ))}
      <div className="mt-3 grid gap-x-8 gap-y-3 sm:grid-cols-2">
        <Who title="could do more" word="opens" list={of.gains} more={of.more_gains} />
        <Who title="could do less" word="closes" list={of.losses} more={of.more_losses} />
      </div>
      {of.cautions.length > 0 ? (
        <section aria-labelledby="cautions" className="mt-4">
          <h3 id="cautions" className="font-semibold">
            What to be wary of
          </h3>
          <Cautions cautions={of.cautions} />
        </section>
      ) : null}
      {of.groups.length > 0 ? (
        <section aria-labelledby="alike" className="mt-4">
          <h3 id="alike" className="font-semibold">
            Before and after
          </h3>
          <Alike groups={of.groups.slice(0, mostGroups)} hosts={false} />
          {groups > mostGroups ? (
            <p className="mt-1 text-sm text-muted">
              {(groups - mostGroups).toLocaleString()} more kinds of change; the plan shows all.
            </p>
          ) : null}
        </section>
      ) : null}
      {of.left.length > 0 ? (
        <section aria-labelledby="left" className="mt-4">
          <h3 id="left" className="font-semibold">
            What would stay as it is
          </h3>
          <ul className="text-sm">
            {of.left.slice(0, mostLeft).map((l) => (
              <li key={`${l.host}${l.path}${l.why}`}>
                {l.path === "/" ? null : (
                  <>
                    <code>{l.path}</code>:{" "}
                  </>
                )}
                {l.why}
              </li>
            ))}
            {left > mostLeft ? <li className="text-muted">and {(left - mostLeft).toLocaleString()} more</li> : null}
          </ul>
        </section>
      ) : null}
    </div>
  );
}
