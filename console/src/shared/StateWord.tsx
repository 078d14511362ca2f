const strong = new Set(["in review", "halted", "failed"]);

/** The state of a plan or a run, in its own word. */
export function StateWord({ state }: { state: string }) {
  return (
    <span
      className={`rounded border px-1.5 py-0.5 text-[0.8rem] whitespace-nowrap ${strong.has(state) ? "border-ink font-semibold" : "border-line"}`}
    >
      {state}
    </span>
  );
}
