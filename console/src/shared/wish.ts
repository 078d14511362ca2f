import type { Schemas } from "../api/client";

export type Wish = Schemas["Wish"];
export type EntryChange = Schemas["EntryChange"];

/** A starting point of the language, with what it makes of files and folders, to be drawn. */
export interface Form {
  key: string;
  says: string;
  means: string;
  files?: string;
  folders?: string;
  /** For whom it is, if it has to be said. */
  of?: "account" | "group";
}

/** The starting points, the ones that people look up most first; a test holds them against the language. */
export const forms: readonly Form[] = [
  { key: "private-key", says: "Private key", means: "its owner alone reads it", files: "0600" },
  {
    key: "secret",
    says: "Secret",
    means: "its owner writes it, its group reads it, nobody else gets there",
    files: "0640",
    folders: "0750",
  },
  { key: "private", says: "Private", means: "its owner alone", files: "0600", folders: "0700" },
  { key: "ordinary", says: "Ordinary", means: "everybody reads, its owner writes", files: "0644", folders: "0755" },
  { key: "programs", says: "Programs", means: "everybody runs them, their owner changes them", files: "0755" },
  {
    key: "withheld",
    says: "Program withheld",
    means: "everybody runs it but this account",
    files: "0755",
    of: "account",
  },
  {
    key: "group-work",
    says: "Group work folder",
    means: "what one of the group makes, the others can change",
    files: "0660",
    folders: "2770",
    of: "group",
  },
  { key: "drop", says: "Drop folder", means: "its group adds to it, and removes only its own", folders: "1770" },
  {
    key: "web-content",
    says: "Web content",
    means: "this account reads what others of the group write",
    files: "0640",
    folders: "2750",
    of: "account",
  },
];

const filled = (e: EntryChange | undefined) =>
  e !== undefined && ((e.give?.length ?? 0) > 0 || (e.without?.length ?? 0) > 0 || e.none === true);

/** Whether a wish says what is to change, and of which paths. */
export function says(w: Wish): boolean {
  const set = Object.values(w.set ?? {}).some((v) => v !== "");
  const form = w.form !== undefined && (!forms.find((f) => f.key === w.form)?.of || (w.for?.length ?? 0) > 0);
  return w.paths.length > 0 && (set || form || filled(w.entries) || filled(w.grants) || w.inherits !== undefined);
}

/** A wish without what says nothing. */
export function tidy(w: Wish): Wish {
  const clean = (v: unknown): unknown => {
    if (Array.isArray(v)) return v.length > 0 ? v : undefined;
    if (v === "" || v === false || v === null) return undefined;
    if (typeof v !== "object") return v;
    const kept = Object.entries(v).flatMap(([key, x]) => {
      const c = clean(x);
      return c === undefined ? [] : [[key, c] as const];
    });
    return kept.length > 0 ? Object.fromEntries(kept) : undefined;
  };
  return { paths: w.paths, ...(clean({ ...w, paths: undefined }) as Partial<Wish> | undefined) };
}

/** The address at which wishes of a host are composed. */
export function addressOf(host: string, wishes: readonly Wish[], application = ""): string {
  const q = new URLSearchParams({ host });
  if (application) q.set("application", application);
  for (const w of wishes) q.append("wish", JSON.stringify(tidy(w)));
  return `/change?${q.toString()}`;
}

/** The address at which a change of paths begins. */
export function beginAt(host: string, paths: readonly string[]): string {
  const q = new URLSearchParams({ host });
  for (const p of paths) q.append("path", p);
  return `/change?${q.toString()}`;
}

/** Which entries are to be there: one more. */
export const give = (e: EntryChange | undefined, entry: string): EntryChange => ({
  ...e,
  give: [...(e?.give ?? []).filter((x) => x !== entry), entry],
});

/** Somebody is to have no entry. */
export const take = (e: EntryChange | undefined, who: string): EntryChange => ({
  ...e,
  without: [...(e?.without ?? []).filter((x) => x !== who), who],
});

/** Something of a list is meant no more. */
export const drop = (e: EntryChange | undefined, text: string): EntryChange => ({
  ...e,
  give: (e?.give ?? []).filter((x) => x !== text),
  without: (e?.without ?? []).filter((x) => x !== text),
});
