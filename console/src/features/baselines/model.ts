import type { Completion, CompletionContext, CompletionResult } from "@codemirror/autocomplete";
import type { Text } from "@codemirror/state";
import type { Schemas } from "../../api/client";

/** What the language's schema says, as far as completion needs it. */
interface Schema {
  properties?: Record<string, Property>;
  $defs?: Record<string, Schema & Property>;
}
interface Property {
  description?: string;
  $ref?: string;
  properties?: Record<string, Property>;
}

/** What can be offered, and where names and paths come from. */
export interface Known {
  schema?: Schema;
  accounts: readonly string[];
  groups: readonly string[];
  names: (folder: string) => Promise<readonly { name: string; folder: boolean }[]>;
}

const values: Record<string, readonly [string, string][]> = {
  severity: [
    ["minor", ""],
    ["serious", "when left out"],
    ["grave", ""],
  ],
  form: [
    ["ordinary", "0644, folders 0755"],
    ["private", "0600, folders 0700"],
    ["programs", "0755"],
    ["private-key", "nobody else at all"],
    ["secret", "0640, folders 0750"],
    ["group-work", "0660, folders 2770, for a group"],
    ["drop", "everybody adds, removes only their own"],
    ["web-content", "readable for an account"],
    ["withheld", "everybody but these"],
  ],
  only: [
    ["file", ""],
    ["folder", ""],
    ["link", ""],
    ["other", "sockets, pipes, devices"],
    ["executable", ""],
    ["not-executable", ""],
    ["with-entries", ""],
    ["without-entries", ""],
  ],
  files: [
    ["0640", "rw-r-----"],
    ["0644", "rw-r--r--"],
    ["0600", "rw-------"],
    ["0660", "rw-rw----"],
    ["0750", "rwxr-x---"],
    ["0755", "rwxr-xr-x"],
    ["u=rwX,g=rX,o=", "execute where it belongs"],
    ["g+r,o-w", "a limit"],
    ["any", "take back"],
  ],
  folders: [
    ["0750", "rwxr-x---"],
    ["0755", "rwxr-xr-x"],
    ["0700", "rwx------"],
    ["2750", "set-group-ID"],
    ["2770", "set-group-ID, group writes"],
    ["1777", "sticky"],
    ["any", "take back"],
  ],
  entries: [
    ["none", ""],
    ["any", "take back"],
  ],
  defaults: [
    ["none", ""],
    ["derived", "as the folder's own"],
    ["any", "take back"],
  ],
  grants: [
    ["none", ""],
    ["any", "take back"],
  ],
  inherits: [
    ["from above", "entries come from the folder above"],
    ["stopped", "none come from above"],
    ["any", "take back"],
  ],
  capability: [
    ["none", ""],
    ["any", "take back"],
  ],
  exists: [
    ["yes", "must be there"],
    ["no", "must not be there"],
  ],
  immutable: [
    ["yes", ""],
    ["no", ""],
    ["any", "take back"],
  ],
  "append-only": [
    ["yes", ""],
    ["no", ""],
    ["any", "take back"],
  ],
};

/** Keys that have lists: what begins an item there is no key. */
const lists = ["paths", "entries", "defaults", "grants", "roots", "only", "for", "at-least", "names", "tags"];

const keyed = /^(\s*(?:- )?)([a-z-]+):\s*(.*)$/;

/** The keys above a place, outermost first, by indentation. */
export function above(doc: Text, number: number, indent: number): string[] {
  const keys: string[] = [];
  let limit = indent;
  for (let n = number - 1; n >= 1 && limit > 0; n--) {
    const m = keyed.exec(doc.line(n).text);
    if (!m) continue;
    const at = m[1]!.length;
    const item = /^\s*- /.test(doc.line(n).text);
    if (at < limit) {
      keys.unshift(m[2]!);
      limit = at;
    } else if (item && at === limit) {
      limit = at - 1; // the item begins here, and its list stands further out
    }
  }
  return keys;
}

const offer = (from: number, options: Completion[]): CompletionResult | null =>
  options.length ? { from, options, validFor: /^[^\s,"\]]*$/ } : null;

/** The rights and the reach that an entry of a share is written with. */
const rights = ["read", "write", "full"];
const reaches = ["here", "folders", "files"];

/** The item of a list that is being written: of one in brackets what stands behind the last quote that is open. */
function itemOf(before: string): string {
  const parts = before.split('"');
  if (parts.length % 2 === 0) return parts.at(-1)!;
  return /^\s*-\s+([^"]*)$/.exec(before)?.[1] ?? "";
}

/** Offers what comes next in an entry such as "allow NAME: read; reaches here, folders". */
function granting(pos: number, item: string, known: Known): CompletionResult | null {
  const list = (written: string, labels: readonly string[], after = "") =>
    offer(
      pos - written.length,
      labels.map((label) => ({ label, apply: `${label}${after}`, type: "text" })),
    );
  const reach = /; reaches (?:.*, )?([^,]*)$/.exec(item);
  if (reach) return list(reach[1]!, reaches);
  const what = /^(?:allow|deny) [^:]+: (?:.*, )?([^,;]*)$/.exec(item);
  if (what) return list(what[1]!, rights);
  const who = /^(?:allow|deny) ([^:]*)$/.exec(item);
  if (who) return list(who[1]!, [...known.accounts, ...known.groups], ": ");
  return list(item, ["allow", "deny"], " ");
}

/** The keys that the schema has for a place, by the keys above it. */
function keysAt(way: readonly string[], schema: Schema | undefined) {
  if (way.length === 0) return schema?.properties;
  if (way.at(-1) === "rules") return schema?.$defs?.["rule"]?.properties;
  if (way.at(-1) === "hosts") return schema?.properties?.["hosts"]?.properties;
  return way.at(-2) === "forms" ? schema?.$defs?.["form"]?.properties : undefined;
}

/** Offers keys, values, accounts and paths for the place of the cursor. */
export async function complete(c: CompletionContext, known: Known): Promise<CompletionResult | null> {
  const line = c.state.doc.lineAt(c.pos);
  const before = line.text.slice(0, c.pos - line.from);
  const key = /^(\s*)(- )?([a-z-]*)$/.exec(before);
  const indent = key ? key[1]!.length + (key[2]?.length ?? 0) : (/^\s*/.exec(before)?.[0].length ?? 0);
  const way = above(c.state.doc, line.number, indent);
  const listed = /^\s*- /.test(before) && lists.includes(way.at(-1) ?? ""); // "user:" begins an entry there, no key
  const m = listed ? null : keyed.exec(before);
  const inner = m?.[2] ?? way.at(-1) ?? "";
  const written = /[^\s,"[\]]*$/.exec(before)?.[0] ?? "";
  const from = c.pos - written.length;
  if (!m && key && !listed) {
    if (!c.explicit && key[3] === "") return null;
    return offer(
      from,
      Object.entries(keysAt(way, known.schema) ?? {}).map(([label, p]) => ({
        label,
        apply: `${label}: `,
        ...(p.description ? { info: p.description } : {}),
      })),
    );
  }
  if (["grants", ...(way.at(-2) === "grants" ? ["at-least"] : [])].includes(inner) && /^\s*-|[[,]/.test(before)) {
    return granting(c.pos, itemOf(before), known);
  }
  const entry = /(user|group):([^:]*)$/.exec(written);
  if (["entries", "defaults", "at-least"].includes(inner) && entry) {
    const list = entry[1] === "user" ? known.accounts : known.groups;
    return offer(
      c.pos - entry[2]!.length,
      list.map((label) => ({ label, apply: `${label}:`, type: "text" })),
    );
  }
  if (["paths", "roots", "leave-alone"].includes(inner) && written.startsWith("/")) {
    const cut = written.lastIndexOf("/");
    const folder = written.slice(0, cut) || "/";
    const here = folder.includes("*") ? [] : await known.names(folder);
    return offer(from + cut + 1, [
      ...here.map(({ name, folder }) => ({ label: name, apply: name, detail: folder ? "folder" : "" })),
      ...(inner === "roots"
        ? []
        : [
            { label: "**", detail: "this folder and all below", boost: 1 },
            { label: "*", detail: "everything in it", boost: 1 },
          ]),
    ]);
  }
  if (inner === "owner" || inner === "for")
    return offer(
      from,
      [...known.accounts, ...(inner === "for" ? known.groups : ["any"])].map((label) => ({ label })),
    );
  if (inner === "group")
    return offer(
      from,
      [...known.groups, "any"].map((label) => ({ label })),
    );
  return offer(
    from,
    (values[inner] ?? []).map(([label, detail]) => ({
      label,
      detail,
      apply: /[=,]/.test(label) ? `"${label}"` : label,
    })),
  );
}

/** Something to be said of a place in the text, counted from 1. */
export interface Remark {
  line: number;
  column: number;
  grave: boolean;
  text: string;
}

/** What a check says, as remarks in the order of the text. */
export function remarksOf(c: Schemas["Checked"] | undefined): Remark[] {
  return [
    ...(c?.errors ?? []).map((e) => ({ line: e.line, column: e.column, grave: true, text: e.message })),
    ...(c?.problems ?? []).map((p) => ({
      line: p.line,
      column: p.column,
      grave: true,
      text: `host ${p.host}: ${p.message}`,
    })),
    ...(c?.warnings ?? []).map((w) => ({
      line: w.line,
      column: w.column,
      grave: false,
      text: `${w.message}${w.example ? `, such as ${w.example}` : ""}. Write instead: ${w.instead}`,
    })),
  ].toSorted((a, b) => a.line - b.line || a.column - b.column);
}

/** A baseline's text with rules behind its others, once: a later rule counts before an earlier one. */
export function withRules(text: string, rules: string): string {
  if (rules === "") return text;
  const lines = text.split("\n");
  const start = lines.findIndex((l) => /^rules:/.test(l));
  if (start < 0) return `${text.trimEnd()}\nrules:\n${rules}`;
  const next = lines.findIndex((l, i) => i > start && /^[^\s#-]/.test(l));
  let end = next < 0 ? lines.length : next;
  while (end > start + 1 && /^\s*(#.*)?$/.test(lines[end - 1] ?? "")) end--;
  // Rules stand as far in as those that are there.
  const item = lines.slice(start + 1, end).find((l) => /^\s*- /.test(l));
  const indent = item === undefined ? 2 : item.length - item.trimStart().length;
  const mine = rules
    .trimEnd()
    .split("\n")
    .map((l) => " ".repeat(indent) + l.slice(2));
  if (text.includes(mine.join("\n"))) return text;
  return [...lines.slice(0, end), ...mine, ...lines.slice(end)].join("\n");
}
