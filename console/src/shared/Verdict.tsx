import type { Schemas } from "../api/client";

/** What may be said of an application: that all is as declared only where that is known. */
export function Verdict({ of, className = "" }: { of: Schemas["Verdict"]; className?: string }) {
  return (
    <p className={`border-l-4 pl-3 ${of.holds ? "border-line" : "border-ink font-semibold"} ${className}`}>
      {of.says.charAt(0).toUpperCase()}
      {of.says.slice(1)}.
    </p>
  );
}
