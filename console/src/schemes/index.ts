import type { View } from "../api/client";
import { nfs4 } from "./nfs4";
import { nt } from "./nt";
import { posix } from "./posix";
import type { Scheme } from "./scheme";
import { unknown } from "./unknown";

const schemes: Record<string, Scheme> = { posix, nt, nfs4 };

/** The scheme of a view. One that this page does not know is said to be so: it is never shown as another. */
export function schemeOf(view: View | undefined): Scheme {
  return (view && schemes[view.scheme ?? ""]) ?? unknown;
}
