import { Link } from "react-router";
import { useSnapshots } from "../snapshots/queries";
import { lookAt, questions, type Looked } from "./model";

function Paths({ list }: { list: readonly Looked[] }) {
  return (
    <ul>
      {list.map((at) => (
        <li key={lookAt(at)} className="border-t border-line py-1">
          <Link to={lookAt(at)}>
            <code>{at.path}</code>
          </Link>{" "}
          <span className="text-sm text-muted">on {at.host ?? "a snapshot"}</span>
        </li>
      ))}
    </ul>
  );
}

/** Where to begin where nothing is looked at yet: what was looked at lately, known roots, and questions to ask. */
export function Begin({ lately }: { lately: readonly Looked[] }) {
  const ready = useSnapshots().data?.items?.filter((s) => s.state === "ready") ?? [];
  const roots = [...new Set(ready.flatMap((s) => (s.roots ?? []).map((r) => `${s.host} ${r}`)))]
    .sort()
    .slice(0, 12)
    .map((x): Looked => ({ host: x.slice(0, x.indexOf(" ")), path: x.slice(x.indexOf(" ") + 1) }));
  const example = lately[0] ?? roots[0];
  return (
    <div className="mt-4 grid gap-x-10 gap-y-6 md:grid-cols-2 lg:grid-cols-3">
      {lately.length > 0 ? (
        <section aria-labelledby="lately">
          <h2 id="lately" className="mb-1 font-bold">
            Looked at lately
          </h2>
          <Paths list={lately} />
        </section>
      ) : null}
      {roots.length > 0 ? (
        <section aria-labelledby="roots">
          <h2 id="roots" className="mb-1 font-bold">
            Roots of applications
          </h2>
          <Paths list={roots} />
        </section>
      ) : null}
      {example ? (
        <section aria-labelledby="questions">
          <h2 id="questions" className="mb-1 font-bold">
            Questions people ask
          </h2>
          <p className="text-sm text-muted">
            Of <code>{example.path}</code>, for example:
          </p>
          <ul>
            {questions(example).map((q) => (
              <li key={q.says} className="border-t border-line py-1">
                <Link to={q.to}>{q.says}</Link>
              </li>
            ))}
          </ul>
        </section>
      ) : null}
    </div>
  );
}
