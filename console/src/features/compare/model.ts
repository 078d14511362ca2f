import type { Schemas } from "../../api/client";
import type { Looked, Where } from "../look/model";

type Path = Schemas["Path"];

/** One side of a comparison: where, and which path. */
export type Side = Looked;

/** What the address of a comparison says of its sides. */
export function sidesOf(search: URLSearchParams): [Side, Side] {
  const side = (of: "a" | "b"): Side => {
    const host = search.get(`${of}-host`);
    const snapshot = search.get(`${of}-snapshot`);
    return {
      ...(host ? { host } : {}),
      ...(snapshot && !host ? { snapshot } : {}),
      path: search.get(`${of}-path`) ?? "",
    };
  };
  return [side("a"), side("b")];
}

/** The address of a comparison. */
export function compareAt(a: Side, b: Side): string {
  const to = new URLSearchParams();
  for (const [of, side] of [
    ["a", a],
    ["b", b],
  ] as const)
    for (const key of ["host", "snapshot", "path"] as const) if (side[key]) to.set(`${of}-${key}`, side[key]);
  return `/compare?${to.toString()}`;
}

/** Whether something is asked of a side at all. */
export const isAsked = (s: Where & { path: string }) => Boolean(s.host ?? s.snapshot) && s.path !== "";

/** A name in either of two folders. */
export interface Pair {
  name: string;
  a?: Path;
  b?: Path;
  differs: boolean;
}

/** What decides about access at a path, in one text; names of accounts, as another host has other numbers. */
const state = (p: Path) => JSON.stringify([p.kind, p.access, p.gap ?? "", p.target ?? ""]);

/** The names of two folders, those of both together, in the order of names. */
export function pairsOf(a: readonly Path[], b: readonly Path[]): Pair[] {
  const of = new Map(b.map((p) => [p.name, p]));
  const both = a.map((p) => ({ name: p.name, a: p, other: of.get(p.name) }));
  const known = new Set(a.map((p) => p.name));
  return [
    ...both.map(({ name, a, other }) => ({
      name,
      a,
      ...(other ? { b: other } : {}),
      differs: other === undefined || state(a) !== state(other),
    })),
    ...b.filter((p) => !known.has(p.name)).map((p) => ({ name: p.name, b: p, differs: true })),
  ].toSorted((x, y) => (x.name < y.name ? -1 : Number(x.name > y.name)));
}

/** What may differ, and how it is at a path; names of accounts, as another host has other numbers. */
const aspects: readonly [string, (s: Schemas["Sight"]) => unknown][] = [
  ["kind", (s) => s.kind],
  ["what it leads to", (s) => s.target],
  ["how permissions are kept", (s) => s.access?.scheme],
  ["owner", (s) => s.access?.owner],
  ["group", (s) => s.access?.group],
  ["mode", (s) => s.access?.mode],
  ["access entries", (s) => s.access?.entries],
  ["default entries", (s) => s.access?.defaults],
  ["entries of the list", (s) => s.access?.grants],
  ["inheritance", (s) => s.access?.inheritance],
  ["flags", (s) => s.access?.flags],
];

/** The folders on the way that do not let through alike, by what they are called on the way to the first. */
function way(a: Schemas["Sight"], b: Schemas["Sight"]): string[] {
  const folders = (s: Schemas["Sight"]) => (s.way ?? []).filter((w) => w.path !== s.path);
  const [x, y] = [folders(a), folders(b)];
  const same = (i: number) =>
    JSON.stringify([x[i]?.access, x[i]?.withheld]) === JSON.stringify([y[i]?.access, y[i]?.withheld]);
  if (x.length !== y.length) return ["the way there"];
  const other = x.filter((_, i) => !same(i)).map((w) => w.path);
  return other.length > 0 ? [`on the way there ${other.join(", ")}`] : [];
}

/** What of two paths is otherwise, in a few words; nothing where they are alike. */
export const differences = (a: Schemas["Sight"], b: Schemas["Sight"]): string[] => [
  ...aspects.filter(([, of]) => JSON.stringify(of(a) ?? null) !== JSON.stringify(of(b) ?? null)).map(([name]) => name),
  ...way(a, b),
];
