import type { Trend } from "../api/client";

type Point = Pick<NonNullable<Trend["points"]>[number], "at" | "report" | "edition" | "findings" | "opens" | "closes">;

const wide = 720;
const high = 190;
const left = 64;
const foot = 26;
const right = 140;

const day = new Intl.DateTimeFormat(undefined, { month: "short", day: "numeric" });
const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit" });

/** A round number, and an even one, not below n that an axis can end with. */
const ceiling = (n: number) => {
  const power = 10 ** Math.max(Math.floor(Math.log10(n)), 0);
  return [1, 1.2, 1.6, 2, 3, 4, 6, 8, 10].map((f) => f * power).find((x) => x >= n && x % 2 === 0) ?? 10 * power;
};

const lines = [
  { of: "findings", name: "findings", stroke: "var(--color-ink)", dash: undefined, mark: "●" },
  { of: "opens", name: "open", stroke: "var(--color-opens)", dash: undefined, mark: "▲" },
  { of: "closes", name: "close", stroke: "var(--color-closes)", dash: "6 3", mark: "▼" },
] as const;

/** How findings went on one host; each line is told apart by shape and name, too. */
export function TrendChart({ of, points }: { of: string; points: readonly Point[] }) {
  const from = new Date(points[0]!.at).getTime();
  const to = new Date(points.at(-1)!.at).getTime();
  const top = ceiling(Math.max(...points.map((p) => p.findings), 4));
  const x = (at: string) =>
    left + (to === from ? 0.5 : (new Date(at).getTime() - from) / (to - from)) * (wide - left - right);
  const y = (n: number) => 10 + (1 - n / top) * (high - 10 - foot);
  const label = to - from > 36 * 60 * 60 * 1000 ? day : clock;
  const last = points.at(-1)!;
  // Names beside the ends of the lines, pushed apart where these meet.
  const names = lines.map((l) => ({ ...l, at: y(last[l.of]) })).toSorted((a, b) => a.at - b.at);
  for (let i = 1; i < names.length; i++) names[i]!.at = Math.max(names[i]!.at, names[i - 1]!.at + 15);
  return (
    <svg
      viewBox={`0 0 ${wide} ${high}`}
      className="w-full max-w-3xl"
      role="img"
      aria-label={`Findings on ${of}: ${points[0]!.findings} at first, ${last.findings} at last, of these ${last.opens} open and ${last.closes} close`}
    >
      {[0, top / 2, top].map((n) => (
        <g key={n}>
          <line x1={left} x2={wide - right} y1={y(n)} y2={y(n)} stroke="var(--color-line)" />
          <text x={left - 8} y={y(n) + 4} textAnchor="end" fontSize="12" fill="var(--color-muted)">
            {n.toLocaleString()}
          </text>
        </g>
      ))}
      {points.map((p, i) =>
        i > 0 && p.edition !== points[i - 1]!.edition ? (
          <g key={p.report}>
            <line
              x1={x(p.at)}
              x2={x(p.at)}
              y1={10}
              y2={high - foot}
              stroke="var(--color-muted)"
              strokeDasharray="2 3"
            />
            <text x={x(p.at) + 4} y={20} fontSize="11" fill="var(--color-muted)">
              edition {p.edition}
            </text>
          </g>
        ) : null,
      )}
      {lines.map((l) => (
        <g key={l.of} fill={l.stroke} stroke={l.stroke}>
          <polyline
            fill="none"
            strokeWidth="2"
            strokeDasharray={l.dash}
            points={points.map((p) => `${x(p.at)},${y(p[l.of])}`).join(" ")}
          />
          {points.length <= 60
            ? points.map((p) => (
                <circle key={p.report} cx={x(p.at)} cy={y(p[l.of])} r="2.6">
                  <title>{`${new Date(p.at).toLocaleString()}: ${p[l.of].toLocaleString()} ${l.name}`}</title>
                </circle>
              ))
            : null}
        </g>
      ))}
      {names.map((l) => (
        <text key={l.of} x={wide - right + 8} y={l.at + 4} fontSize="12.5" fontWeight="600" fill={l.stroke}>
          {l.mark} {last[l.of].toLocaleString()} {l.name}
        </text>
      ))}
      <text x={left} y={high - 8} fontSize="12" fill="var(--color-muted)">
        {label.format(from)}
      </text>
      {to > from ? (
        <text x={wide - right} y={high - 8} textAnchor="end" fontSize="12" fill="var(--color-muted)">
          {label.format(to)}
        </text>
      ) : null}
    </svg>
  );
}
