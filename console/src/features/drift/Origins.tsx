import type { Line } from "./model";

const first = 2;

/** Where findings come from, as far as that is known: who did the last thing to the paths, and the likely cause. */
export function Origins({ line }: { line: Line }) {
  const parts: string[] = [];
  const share = (n: number) => (n < line.count ? ` (${n.toLocaleString()} of them)` : "");
  for (const d of (line.doers ?? []).slice(0, first)) parts.push(`touched last by ${d.what}${share(d.findings)}`);
  for (const c of (line.causes ?? []).slice(0, first)) parts.push(`likely cause: ${c.what}${share(c.findings)}`);
  if (parts.length === 0) return null;
  return <span className="text-sm text-muted sm:col-span-3 sm:col-start-2">{parts.join("; ")}</span>;
}
