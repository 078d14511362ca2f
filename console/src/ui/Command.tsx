import { useState } from "react";

/** The command that does the same, ready to be copied. */
export function Command({ text }: { text: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <p className="my-3 flex items-baseline gap-2 text-sm text-muted">
      <code className="min-w-0 rounded bg-sheet px-2 py-1">{text}</code>
      <button
        type="button"
        className="cursor-pointer underline decoration-line underline-offset-3 hover:decoration-current"
        onClick={() => {
          void navigator.clipboard.writeText(text).then(() => setCopied(true));
        }}
      >
        {copied ? "copied" : "copy"}
      </button>
    </p>
  );
}
