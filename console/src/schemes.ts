import type { View } from "./api/client";

/** Whether a path keeps its permissions as shares do, by a security descriptor: such a path has no mode. */
export function ofShare(view: View | undefined): boolean {
  return view?.scheme === "nt";
}
