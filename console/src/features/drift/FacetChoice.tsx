import { Field } from "../../ui/Field";
import { Select } from "../../ui/Select";
import type { Facet, Narrowing } from "./model";

/** One thing that findings are narrowed by, with how many have each value; nothing where there is nothing to choose. */
export function FacetChoice({
  name,
  label,
  all,
  options,
  chosen,
  set,
}: {
  name: Facet;
  label: string;
  all: string;
  options: readonly { value: string; count: number }[];
  chosen: string;
  set: (part: Narrowing) => void;
}) {
  if (options.length < 2 && chosen === "") return null;
  return (
    <Field label={label}>
      <Select className="mt-0.5 block max-w-40" value={chosen} onChange={(e) => set({ [name]: e.target.value })}>
        <option value="">{all}</option>
        {chosen !== "" && !options.some((o) => o.value === chosen) ? <option value={chosen}>{chosen}</option> : null}
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.value} ({o.count.toLocaleString()})
          </option>
        ))}
      </Select>
    </Field>
  );
}
