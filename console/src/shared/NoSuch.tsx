/** Said behind a name or number that its host does not have. */
export function NoSuch({ what = "account", when }: { what?: "account" | "group"; when: boolean | undefined }) {
  return when ? <em className="text-opens"> (no such {what})</em> : null;
}
