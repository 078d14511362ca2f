import type { ReactNode } from "react";
import type { Schemas, View } from "../api/client";
import type { Wish } from "../shared/wish";

/** What a change of a path is composed with: the path as it is, what is wished so far, and the host's names. */
export interface Composed {
  sight: Schemas["Sight"];
  wish: Wish;
  change: (part: Partial<Wish>) => void;
  accounts: readonly string[];
  groups: readonly string[];
}

/**
 * How the console shows permissions of one scheme. Each scheme has a folder of its own; the table of them is in
 * index.ts, and nothing else in the console knows one by name.
 */
export interface Scheme {
  /** What holds a path back besides its own permissions, in one word: a mount, a share. */
  outside: string;
  /** Paths lie on a server: whether somebody can do something is tried there, by its own answer. */
  remote: boolean;
  /** The owning group decides something. */
  group: boolean;
  /** A state in one line of a list. */
  Brief: (props: { view: View }) => ReactNode;
  /** A state in a narrow column, with what is declared in its place if that is another mode. */
  Cell: (props: { view: View; declared?: View }) => ReactNode;
  /** One side of a change: what differs from the other is strong, and ringed if wanted. */
  Side: (props: { view: View; other: View; ring: boolean }) => ReactNode;
  /** The rows of a description list, after the owner. */
  Facts: (props: { view: View }) => ReactNode;
  /** Everything that the entries say, with headings. */
  Lines: (props: { sight: Schemas["Sight"] }) => ReactNode;
  /** The fields by which its permissions are changed, besides the owner. */
  Compose: (props: Composed) => ReactNode;
}
