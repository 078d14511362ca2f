import type { Schemas } from "../../api/client";

type Sight = Schemas["Sight"];

/** One place on the way: what is set there, and which of it comes down to the path. */
function Place({
  path,
  stopped,
  first,
  last,
  own,
  down,
}: {
  path: string;
  stopped: boolean;
  first: boolean;
  last: boolean;
  own: readonly string[];
  down: number;
}) {
  return (
    <li className="relative grid grid-cols-[1.25rem_minmax(0,1fr)] gap-x-3 pb-3">
      {last ? null : (
        <span aria-hidden="true" className="absolute top-3 bottom-0 left-[0.56rem] border-l-2 border-ink" />
      )}
      <span
        aria-hidden="true"
        className="relative z-1 mt-1 grid h-5 place-items-center bg-paper font-bold leading-none"
      >
        {stopped ? "╪" : last ? "●" : "┿"}
      </span>
      <div className="min-w-0">
        <code className={last ? "font-semibold" : ""}>{path}</code>
        <span className={`text-sm ${stopped && !first ? "font-semibold text-opens" : "text-muted"}`}>
          {" "}
          {stopped
            ? first
              ? "begins here: nothing comes from above"
              : "inheritance stops here: nothing is inherited from above"
            : "takes entries from above"}
        </span>
        {own.length > 0 ? (
          <ul className="mt-0.5 text-sm">
            {own.map((e, i) => (
              <li key={i}>
                <code>{e}</code>
              </li>
            ))}
          </ul>
        ) : (
          <span className="block text-sm text-muted">sets nothing of its own</span>
        )}
        {!last && own.length > 0 ? (
          <span className="block text-sm text-muted">
            {down > 0
              ? `↓ ${down} of these ${down === 1 ? "comes" : "come"} down to the path`
              : "the path inherits none of these"}
          </span>
        ) : null}
      </div>
    </li>
  );
}

/** The way from the share's top to a path: where entries are set, how far they come down, and where that stops. */
export function Above({ sight }: { sight: Sight }) {
  const way = (sight.way ?? []).filter((p) => p.path !== "/");
  const places = [...way.map((p) => ({ path: p.path, access: p.access })), { path: sight.path, access: sight.access }];
  const lines = sight.entries ?? [];
  return (
    <ol aria-label="Inheritance on the way from the top of the share">
      {places.map((p, i) => (
        <Place
          key={p.path}
          path={p.path}
          first={i === 0}
          last={i === places.length - 1}
          stopped={p.access?.inheritance !== "from above"}
          own={(p.access?.entries ?? []).filter((e) => !e.endsWith("inherited"))}
          down={lines.filter((l) => l.origin === `from ${p.path}`).length}
        />
      ))}
    </ol>
  );
}
