import type { Schemas } from "../../api/client";

/** Where something is looked up: a host as it is now, or a stored snapshot. */
export interface Where {
  host?: string;
  snapshot?: string;
}

/** What is supposed beside what is: an edition, a plan, a group joined. */
export interface Supposed {
  joining?: string[];
  edition?: string;
  plan?: string;
}

/** The folder that a path lies in; escaped names hold no slash. */
export const folderOf = (path: string) => path.slice(0, Math.max(path.lastIndexOf("/"), 1));

/** The declared mode among findings, if one is of that: so that the cells that differ are ringed. */
export const declaredMode = (findings: readonly Schemas["PathFinding"][] | null | undefined) =>
  findings?.find((f) => f.aspect === "mode" && /^[0-7]{4}$/.test(f.declared))?.declared;

/** The flags that make a command ask where the page asks. */
export const flagsOf = (w: Where) => (w.host ? `--host ${w.host}` : `--snapshot ${w.snapshot}`);

/** A word as a shell takes it. */
export const quoted = (s: string) => (/^[\w./-]+$/.test(s) ? s : `'${s.replaceAll("'", String.raw`'\''`)}'`);
