import { TallyGrid } from "../../shared/TallyGrid";

// A declared mode may be a limit instead, such as g+r,o-w.
const octal = /^[0-7]{1,4}$/;

/** What was found or declared, a mode as its grid; marked is what another value has otherwise. */
export function LineValue({ aspect, text, other }: { aspect: string; text: string; other?: string }) {
  if (aspect !== "mode" || !octal.test(text)) return <code>{text}</code>;
  return (
    <span className="inline-flex items-center gap-2 align-middle">
      <TallyGrid mode={text} other={other && octal.test(other) ? other : undefined} /> <code>{text}</code>
    </span>
  );
}
