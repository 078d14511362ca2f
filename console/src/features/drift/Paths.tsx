import { Link } from "react-router";
import type { Group } from "../../api/client";
import { ChangeLink } from "../../shared/ChangeLink";
import { Checkbox } from "../../ui/Checkbox";
import { LongList } from "../../ui/LongList";
import { Note } from "../../ui/Note";
import type { Basket } from "./basket";
import { By } from "../../shared/By";
import { useFindings } from "./queries";

/** The paths of a group on its host, however many. */
export function Paths({ group, snapshot, basket }: { group: Group; snapshot: string; basket?: Basket }) {
  const findings = useFindings(group.report, group.id);
  const items = findings.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const at = snapshot === "" ? `host=${group.host}` : `snapshot=${snapshot}`;
  return (
    <div className="mt-2 text-sm">
      <Note error={findings.error} />
      <LongList
        label="Paths of this group"
        className="h-72"
        estimate={28}
        flow={12}
        items={items}
        keyOf={(f) => `${f.seq}`}
        more={findings}
        row={(f) => (
          <div className="flex flex-wrap items-baseline gap-x-2 pr-2">
            {basket ? (
              <Checkbox
                disabled={basket.hasGroup(group)}
                checked={basket.hasGroup(group) || basket.hasSingle(f, group.host)}
                onChange={(e) => basket.putSingle(f, group.host, e.target.checked)}
                aria-label={`Put ${f.path} in the basket`}
              />
            ) : null}
            <Link
              data-main
              to={`/look?${at}&path=${encodeURIComponent(f.path)}`}
              className="inline-block min-h-[24px] leading-[24px]"
            >
              <code>{f.path}</code>
            </Link>{" "}
            {f.unread ? <strong>as last read</strong> : null} <By act={f.by} />
            {basket ? (
              <ChangeLink host={group.host} paths={[f.path]} className="ml-auto">
                change…
              </ChangeLink>
            ) : null}
          </div>
        )}
      />
    </div>
  );
}
