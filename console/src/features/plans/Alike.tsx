import type { PlanGroup } from "../../api/client";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { EffectMark } from "../../shared/EffectMark";

/** Equal changes, each with how many paths it is of, before and after, and what it means. */
export function Alike({ groups, hosts }: { groups: readonly PlanGroup[]; hosts: boolean }) {
  return (
    <ul>
      {groups.map((g, i) => (
        <li key={i} className="border-b border-line py-3">
          <div className="mb-2 flex flex-wrap items-baseline gap-x-3">
            <EffectMark word={g.word} />
            <span className="font-semibold">
              {g.count === 1 ? `1 ${g.kind}` : `${g.count.toLocaleString()} ${g.kind}s`}
            </span>
            <code className="min-w-0">{g.count === 1 ? g.example : `${g.folder}/…`}</code>
            {hosts ? <span className="ml-auto text-sm text-muted">{g.host}</span> : null}
          </div>
          <BeforeAfter before={g.before} after={g.after} />
          <p className="mt-1 text-sm">{g.meaning}</p>
        </li>
      ))}
    </ul>
  );
}
