import type { Group } from "../../api/client";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { Select } from "../../ui/Select";
import { choices, summary, type Facet, type Sieve } from "./model";

const facets: readonly { key: Facet; label: string; all: string }[] = [
  { key: "effect", label: "Effect", all: "any" },
  { key: "severity", label: "Severity", all: "any" },
  { key: "who", label: "Who gains or loses", all: "whoever" },
  { key: "rule", label: "Rule", all: "all" },
  { key: "aspect", label: "Aspect", all: "all" },
  { key: "age", label: "Age", all: "any" },
];

const sorts = [
  ["", "by weight"],
  ["severity", "the grave ones first"],
  ["count", "most paths first"],
  ["newest", "the newest first"],
  ["rule", "by rule"],
  ["folder", "by folder"],
] as const;

/** Which findings are looked at, and in which order; the numbers follow what else is chosen. */
export function Triage({
  groups,
  sieve,
  set,
}: {
  groups: readonly Group[];
  sieve: Sieve;
  set: (part: Partial<Sieve>) => void;
}) {
  const narrowed = facets.some((f) => sieve[f.key] !== "");
  return (
    <div className="mb-2">
      <p role="status" className="mb-2 font-semibold">
        {summary(groups)}
      </p>
      <div className="flex flex-wrap items-end gap-x-3 gap-y-2 text-sm">
        {facets.map((f) => {
          const list = choices(groups, sieve, f.key);
          const chosen = sieve[f.key];
          if (list.length < 2 && chosen === "") return null;
          return (
            <Field key={f.key} label={f.label}>
              <Select
                className="mt-0.5 block max-w-52"
                value={chosen}
                onChange={(e) => set({ [f.key]: e.target.value })}
              >
                <option value="">{f.all}</option>
                {chosen !== "" && !list.some((o) => o.value === chosen) ? (
                  <option value={chosen}>{chosen}</option>
                ) : null}
                {list.map((o) => (
                  <option key={o.value} value={o.value}>
                    {o.value} ({o.count.toLocaleString()})
                  </option>
                ))}
              </Select>
            </Field>
          );
        })}
        <Field label="Order">
          <Select className="mt-0.5 block" value={sieve.sort} onChange={(e) => set({ sort: e.target.value })}>
            {sorts.map(([key, says]) => (
              <option key={key} value={key}>
                {says}
              </option>
            ))}
          </Select>
        </Field>
        {narrowed ? (
          <Button onClick={() => set({ effect: "", severity: "", who: "", rule: "", aspect: "", age: "" })}>
            Show all
          </Button>
        ) : null}
      </div>
    </div>
  );
}
