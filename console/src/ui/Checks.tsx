/** Some of several, each with a box: its key, or what it says instead, and what that means. */
export function Checks<K extends string>({
  legend,
  options,
  chosen,
  choose,
  inline = false,
}: {
  legend: string;
  options: readonly { key: K; says?: string; means?: string }[];
  chosen: readonly K[];
  choose: (keys: K[]) => void;
  inline?: boolean;
}) {
  return (
    <fieldset className="mt-3">
      <legend className="text-sm font-semibold">{legend}</legend>
      {options.map((o) => (
        <label
          key={o.key}
          className={inline ? "mr-4 inline-flex items-center gap-2 py-1" : "flex items-center gap-2 py-1"}
        >
          <input
            type="checkbox"
            className="size-4.5 accent-(--color-ink)"
            checked={chosen.includes(o.key)}
            onChange={(e) => choose(e.target.checked ? [...chosen, o.key] : chosen.filter((x) => x !== o.key))}
          />
          {o.says ?? o.key} {o.means ? <span className="text-sm text-muted">{o.means}</span> : null}
        </label>
      ))}
    </fieldset>
  );
}
