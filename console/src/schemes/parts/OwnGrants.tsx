import type { Schemas } from "../../api/client";
import { give, take } from "../../shared/wish";
import { Checkbox } from "../../ui/Checkbox";
import type { Composed } from "../scheme";
import { AddGrant } from "./AddGrant";
import { Meant } from "./Meant";
import { TakeAway } from "./TakeAway";

/** The own entries of a list that allows and denies: which go, and which come. */
export function OwnGrants({ of, lines }: { of: Composed; lines: readonly Schemas["EntryLine"][] }) {
  const { sight, wish, change, accounts, groups } = of;
  const folder = sight.kind === "folder";
  return (
    <section aria-labelledby="own-entries" className="my-4">
      <h3 id="own-entries" className="font-semibold">
        Own entries
      </h3>
      {lines.length === 0 ? <p className="text-sm text-muted">It has none of its own.</p> : null}
      <TakeAway
        entries={lines.map((e) => ({
          who: e.who,
          says: (
            <>
              {e.deny ? <strong>deny</strong> : "allow"} {e.who}: {e.rights}
            </>
          ),
        }))}
        gone={wish.grants?.without}
        take={(who) => change({ grants: take(wish.grants, who) })}
      />
      <Meant of={wish.grants} change={(next) => change({ grants: next })} />
      <AddGrant
        names={[...groups, ...accounts]}
        folder={folder}
        add={(entry) => change({ grants: give(wish.grants, entry) })}
      />
      <div className="mt-2 text-sm">
        <Checkbox
          checked={wish.grants?.none ?? false}
          onChange={(e) => change({ grants: { ...wish.grants, none: e.target.checked } })}
        >
          no other own entries than these
        </Checkbox>
      </div>
    </section>
  );
}
