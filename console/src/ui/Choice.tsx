import { useId, type ReactNode } from "react";

/** One of a few, each with what it means, and a picture if there is one. */
export function Choice<K extends string>({
  legend,
  hidden = false,
  options,
  chosen,
  choose,
}: {
  legend: string;
  hidden?: boolean; // where a heading says the same
  options: readonly { key: K; says: string; means?: string; picture?: ReactNode }[];
  chosen: K;
  choose: (key: K) => void;
}) {
  const name = useId();
  return (
    <fieldset className="mt-2">
      <legend className={hidden ? "sr-only" : "font-semibold"}>{legend}</legend>
      {options.map((o) => (
        <label key={o.key} className="flex min-h-9 cursor-pointer items-center gap-3 py-1 hover:bg-sheet">
          <input
            type="radio"
            name={name}
            className="size-4.5 shrink-0 accent-(--color-ink)"
            checked={chosen === o.key}
            onChange={() => choose(o.key)}
          />
          {o.picture ? <span aria-hidden="true">{o.picture}</span> : null}
          <span className="min-w-0">
            {o.says} {o.means ? <span className="block text-sm text-muted">{o.means}</span> : null}
          </span>
        </label>
      ))}
    </fieldset>
  );
}
