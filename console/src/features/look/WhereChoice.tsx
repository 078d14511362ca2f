import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Field, Label } from "@headlessui/react";
import { useState } from "react";
import { sameWhere, type Place, type Where } from "./model";
import { useAllPlaces } from "./useAllPlaces";

const most = 60;

/** A host as it is now, or one of its snapshots: all of them in one field, found by typing parts of their names. */
export function WhereChoice({
  label,
  where,
  choose,
  className = "",
}: {
  label: string;
  where: Where;
  choose: (where: Where) => void;
  className?: string;
}) {
  const [text, setText] = useState("");
  const all = useAllPlaces(where, text);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = all.filter((p) => words.every((w) => p.finds.includes(w)));
  const now = all.find((p) => sameWhere(p.where, where)) ?? null;
  return (
    <Field as="span" className={className}>
      <Label>{label}</Label>
      <Combobox<Place | null>
        immediate
        value={now}
        by={(a, b) => a !== null && b !== null && sameWhere(a.where, b.where)}
        onChange={(p) => (p ? choose(p.where) : undefined)}
        onClose={() => setText("")}
      >
        <ComboboxInput<Place | null>
          className="box mt-0.5 block w-full"
          autoComplete="off"
          spellCheck={false}
          placeholder="a host, or a snapshot: type to find it"
          displayValue={(p) => p?.says ?? where.snapshot ?? where.host ?? ""}
          onChange={(e) => setText(e.target.value)}
          onFocus={(e) => e.target.select()}
        />
        <ComboboxOptions
          anchor="bottom start"
          className="z-30 max-h-[50vh] w-[26rem] max-w-[92vw] overflow-y-auto rounded border border-ink bg-paper py-1 text-sm shadow-xl empty:hidden"
        >
          {fits.slice(0, most).map((p) => (
            <ComboboxOption
              key={p.key}
              value={p}
              className="flex cursor-pointer flex-wrap justify-between gap-x-3 px-3 py-1 data-focus:bg-ink data-focus:text-paper data-selected:font-semibold"
            >
              <span>{p.says}</span>
              <span className="opacity-75">{p.detail}</span>
            </ComboboxOption>
          ))}
          {fits.length > most ? (
            <div className="px-3 py-1 text-muted">{(fits.length - most).toLocaleString()} more: type on</div>
          ) : null}
        </ComboboxOptions>
      </Combobox>
    </Field>
  );
}
