import type { Schemas, View } from "../../api/client";
import { TallyGrid } from "../../shared/TallyGrid";

type Answer = Schemas["Answer"];

/** One place on the way: a post on the line, what stands there, and what it says. */
function Post({
  path,
  view,
  state,
  last = false,
  children,
}: {
  path: string;
  view?: View;
  state: "passed" | "stopped" | "beyond" | "yes" | "no";
  last?: boolean;
  children?: string;
}) {
  const post = { passed: "┿", stopped: "✕", beyond: "·", yes: "●", no: "○" }[state];
  const line = {
    passed: "border-l-2 border-ink",
    stopped: "border-l-2 border-dashed border-muted",
    beyond: "border-l-2 border-dashed border-muted",
    yes: "",
    no: "",
  }[state];
  const says = { passed: "lets through", stopped: "stops here", beyond: "not reached", yes: "allowed", no: "refused" }[
    state
  ];
  return (
    <li
      className={`relative grid grid-cols-[1.25rem_1.75rem_minmax(0,1fr)] items-start gap-x-2 py-1 ${state === "beyond" ? "text-muted" : ""}`}
    >
      {last ? null : <span aria-hidden="true" className={`absolute top-4 -bottom-4 left-[0.56rem] ${line}`} />}
      <span
        aria-hidden="true"
        className={`relative mt-1 grid h-5 place-items-center bg-paper leading-none font-bold ${state === "stopped" || state === "no" ? "text-opens" : ""}`}
      >
        {post}
      </span>
      <span>{view?.mode ? <TallyGrid mode={view.mode} small /> : null}</span>
      <span className="min-w-0">
        <code className={state === "stopped" ? "font-semibold" : ""}>{path}</code>{" "}
        <span className="sr-only">{says}</span>
        {view ? (
          <span className="mono text-muted">
            {" "}
            {view.letters} {view.owner}:{view.group}
            {view.entries?.length ? " +" : ""}
          </span>
        ) : null}
        {children ? <span className="block text-sm">{children}</span> : null}
      </span>
    </li>
  );
}

/** The way from / to a path, drawn as far as it leads, with the place where it stops. */
export function WhyChain({
  answer,
  who,
  path,
  views,
}: {
  answer: Answer;
  who: string;
  path: string;
  views: ReadonlyMap<string, View | undefined>;
}) {
  const way = answer.way ?? [];
  const arrived = way.every((p) => p.passed);
  return (
    <div>
      <p className="mb-1">
        <strong>{answer.unknown ? "Not known" : answer.allowed ? "Yes" : "No"}:</strong> {who}{" "}
        {answer.unknown ? "can perhaps" : answer.allowed ? "can" : "cannot"} {answer.operation} here, because{" "}
        {answer.reason}.
      </p>
      {answer.entry ? (
        <p className="mb-1 text-sm">
          The entry <code>{answer.entry}</code> on <code>{answer.at}</code> decides.
        </p>
      ) : null}
      <ol aria-label={`The way from / to ${path}`}>
        {way.map((p) => (
          <Post
            key={p.path}
            path={p.path}
            view={views.get(p.path)}
            state={!p.reached ? "beyond" : p.passed ? "passed" : "stopped"}
          >
            {p.reached ? p.reason : undefined}
          </Post>
        ))}
        <Post last path={path} view={views.get(path)} state={!arrived ? "beyond" : answer.allowed ? "yes" : "no"}>
          {arrived ? answer.reason : undefined}
        </Post>
      </ol>
      {answer.notes?.map((n) => (
        <p key={n} className="mt-1 text-sm text-muted">
          Note: {n}.
        </p>
      ))}
    </div>
  );
}
