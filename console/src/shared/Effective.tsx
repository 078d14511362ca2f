/** What of an entry counts, marked where the mask takes something away. */
export function Effective({ entry }: { entry: { rights: string; effective: string } }) {
  return (
    <code className={entry.effective === entry.rights ? "" : "rounded bg-closes-wash px-1 font-semibold text-closes"}>
      {entry.effective}
    </code>
  );
}
