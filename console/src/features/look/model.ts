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

/** Something that was looked at: where, and which path. */
export interface Looked extends Where {
  path: string;
}

/** The address of something that was looked at, with what else is asked of it. */
export const lookAt = (at: Looked, more: Record<string, string> = {}) =>
  `/look?${new URLSearchParams({ ...(at.host ? { host: at.host } : { snapshot: at.snapshot ?? "" }), path: at.path, ...more }).toString()}`;

/** What was looked at lately, the newest first, each once. */
export const lately = (list: readonly Looked[], at: Looked, most = 8): Looked[] =>
  [at, ...list.filter((x) => lookAt(x) !== lookAt(at))].slice(0, most);

/** Questions that people come with, asked of a path by way of example. */
export const questions = (at: Looked): { says: string; to: string }[] => [
  { says: "Who can write here?", to: lookAt(at, { tab: "who", operation: "write" }) },
  { says: "What can everybody write below it?", to: lookAt(at, { tab: "below", for: "everyone", operation: "write" }) },
  { says: "What would a new file get here?", to: lookAt(at) },
];
