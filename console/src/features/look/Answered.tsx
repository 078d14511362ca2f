import type { Schemas } from "../../api/client";

type Answer = Schemas["Answer"];

const word = (a?: Answer) => (a?.unknown ? "not known" : a?.allowed ? "yes" : "no");

const looks = { yes: "bg-opens-wash text-opens", no: "bg-closes-wash text-closes", "not known": "" };

/** Yes or no as a tally cell and a word, or that nobody knows; what would change is said beside it. */
export function Answered({ now, then }: { now?: Answer; then?: Answer }) {
  const cell = (on: boolean) => (
    <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true" className="inline-block">
      <rect
        x="1"
        y="1"
        width="8"
        height="8"
        rx="1"
        fill={on ? "var(--color-ink)" : "none"}
        stroke="var(--color-ink)"
        opacity={on ? 1 : 0.5}
      />
    </svg>
  );
  const changes = then !== undefined && word(then) !== word(now);
  return (
    <span className="inline-flex flex-col items-start gap-0.5 whitespace-nowrap">
      <span className="inline-flex items-center gap-1">
        {now?.unknown ? null : cell(now?.allowed ?? false)} {word(now)}
      </span>
      {changes ? (
        <span className={`inline-flex items-center gap-1 rounded px-1 font-semibold ${looks[word(then)]}`}>
          → {word(then)}
        </span>
      ) : null}
    </span>
  );
}
