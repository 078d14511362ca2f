import type { Plan } from "../../api/client";
import { Time } from "../../ui/Time";

type Remark = NonNullable<Plan["remarks"]>[number];

/** What people said, in the order in which they did. */
export function Said({ remarks, of = false }: { remarks: readonly Remark[]; of?: boolean }) {
  return (
    <ul className="text-sm">
      {remarks.map((r) => (
        <li key={r.author + r.at} className="border-b border-line py-1.5 last:border-0">
          <span className="text-muted">
            {r.author}, <Time at={r.at} />
            {of && r.path ? (
              <>
                {" "}
                of{" "}
                <code>
                  {r.host} {r.path}
                </code>
              </>
            ) : null}
          </span>
          <p className="whitespace-pre-wrap">{r.body}</p>
        </li>
      ))}
    </ul>
  );
}
