import type { Schemas } from "../../api/client";
import { give, take } from "../../shared/wish";
import { Checkbox } from "../../ui/Checkbox";
import type { Composed } from "../scheme";
import { AddGrant } from "./AddGrant";
import { Meant } from "./Meant";

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
      <ul>
        {lines.map((e, i) => (
          <li key={i} className="flex flex-wrap items-baseline gap-x-3 border-t border-line py-1">
            <span className={wish.grants?.without?.includes(e.who) ? "line-through" : ""}>
              {e.deny ? <strong>deny</strong> : "allow"} {e.who}: {e.rights}
            </span>
            <button
              type="button"
              className="ml-auto cursor-pointer px-1 text-sm underline disabled:opacity-50"
              disabled={wish.grants?.without?.includes(e.who)}
              aria-label={`Take away the entries of ${e.who}`}
              onClick={() => change({ grants: take(wish.grants, e.who) })}
            >
              take away
            </button>
          </li>
        ))}
      </ul>
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
