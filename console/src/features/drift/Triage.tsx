import type { ReactNode } from "react";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { FacetChoice } from "./FacetChoice";
import { all, choices, summary, type Facet, type Line, type Narrowing, type Sieve } from "./model";

const facets: readonly { name: Facet; label: string; all: string }[] = [
  { name: "effect", label: "Effect", all: "any" },
  { name: "severity", label: "Severity", all: "any" },
  { name: "who", label: "Who gains or loses", all: "whoever" },
  { name: "rule", label: "Rule", all: "all" },
  { name: "aspect", label: "Aspect", all: "all" },
  { name: "age", label: "New or returned", all: "any" },
  { name: "since", label: "There for", all: "however long" },
  { name: "doer", label: "Touched last by", all: "whoever" },
  { name: "cause", label: "Likely cause", all: "any, or none known" },
];

const headings = [
  ["", "nothing"],
  ["cause", "likely cause"],
  ["doer", "who touched them last"],
  ["host", "host"],
  ["rule", "rule"],
  ["folder", "folder"],
  ["severity", "severity"],
] as const;

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
  lines,
  sieve,
  set,
  children,
}: {
  lines: readonly Line[];
  sieve: Sieve;
  set: (part: Narrowing) => void;
  children: ReactNode; // what else stands at the end
}) {
  const narrowed = sieve.below !== "" || facets.some((f) => sieve[f.name] !== "");
  return (
    <div className="mb-2">
      <p role="status" className="mb-2 font-semibold">
        {summary(lines)}
      </p>
      <div className="flex flex-wrap items-end gap-x-3 gap-y-2 text-sm">
        {facets.map((f) => (
          <FacetChoice key={f.name} {...f} options={choices(lines, sieve, f.name)} chosen={sieve[f.name]} set={set} />
        ))}
        <Field label="In the folder">
          <Input
            className="mt-0.5 block w-36"
            list="folders-of-it"
            placeholder="any"
            spellCheck={false}
            value={sieve.below}
            onChange={(e) => set({ below: e.target.value.trim() })}
          />
          <datalist id="folders-of-it">
            {[...new Set(lines.map((l) => l.folder))].slice(0, 200).map((f) => (
              <option key={f} value={f} />
            ))}
          </datalist>
        </Field>
        <Field label="Group by">
          <Select className="mt-0.5 block" value={sieve.under} onChange={(e) => set({ under: e.target.value })}>
            {headings.map(([key, says]) => (
              <option key={key} value={key}>
                {says}
              </option>
            ))}
          </Select>
        </Field>
        <Field label="Order">
          <Select className="mt-0.5 block" value={sieve.sort} onChange={(e) => set({ sort: e.target.value })}>
            {sorts.map(([key, says]) => (
              <option key={key} value={key}>
                {says}
              </option>
            ))}
          </Select>
        </Field>
        {narrowed ? <Button onClick={() => set(all)}>Show all</Button> : null}
        {children}
      </div>
    </div>
  );
}
