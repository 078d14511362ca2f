const letters = ["read", "write", "execute"];
const classes = ["owner", "group", "others"];
const special = ["set-user-ID", "set-group-ID", "sticky"];

const bits = (mode: string) => Number.parseInt(mode, 8);

/** Says a mode in words, for those who do not see the grid. */
function words(mode: string): string {
  const m = bits(mode);
  const parts = classes.map((c, i) => {
    const p = (m >> (6 - 3 * i)) & 7;
    const can = letters.filter((_, r) => p & (4 >> r));
    return `${c}: ${can.join(", ") || "nothing"}`;
  });
  const on = special.filter((_, i) => m & (0o4000 >> i));
  return `mode ${mode}; ${parts.join("; ")}${on.length > 0 ? `; ${on.join(", ")}` : ""}`;
}

/**
 * The tally grid: three columns (owner, group, others) by three rows (read, write, execute), and
 * three notches on top for the special bits. Cells that differ from `other` are ringed.
 */
export function TallyGrid({
  mode,
  other,
  small = false,
  large = false,
}: {
  mode: string;
  other?: string;
  small?: boolean;
  large?: boolean;
}) {
  const m = bits(mode);
  const differs = other === undefined ? 0 : m ^ bits(other);
  const cell = 7;
  const step = 12;
  return (
    <svg
      width={small ? 26 : large ? 76 : 38}
      height={small ? 33 : large ? 96 : 48}
      viewBox="0 0 38 48"
      role="img"
      aria-label={words(mode)}
      className="inline-block shrink-0 align-middle"
    >
      <title>{words(mode)}</title>
      {special.map((_, c) => {
        const bit = 0o4000 >> c;
        return (
          <g key={c}>
            <path
              d={`M${4 + c * step} 4h${cell}l-${cell / 2} 4z`}
              fill={m & bit ? "var(--color-ink)" : "none"}
              stroke="var(--color-ink)"
              strokeWidth=".7"
              opacity={m & bit ? 1 : 0.35}
            />
            {differs & bit ? (
              <circle
                cx={4 + c * step + cell / 2}
                cy="5.4"
                r="4.7"
                fill="none"
                stroke="var(--color-opens)"
                strokeWidth="1.3"
              />
            ) : null}
          </g>
        );
      })}
      {classes.map((_, c) =>
        letters.map((_, r) => {
          const bit = 0o400 >> (3 * c + r);
          const x = 4 + c * step;
          const y = 13.5 + r * step;
          return (
            <g key={`${c}${r}`}>
              <rect
                x={x}
                y={y}
                width={cell}
                height={cell}
                rx="1"
                fill={m & bit ? "var(--color-ink)" : "none"}
                stroke="var(--color-ink)"
                strokeWidth=".8"
                opacity={m & bit ? 1 : 0.45}
              />
              {differs & bit ? (
                <rect
                  x={x - 2.1}
                  y={y - 2.1}
                  width={cell + 4.2}
                  height={cell + 4.2}
                  rx="2.6"
                  fill="none"
                  stroke="var(--color-opens)"
                  strokeWidth="1.5"
                />
              ) : null}
            </g>
          );
        }),
      )}
    </svg>
  );
}
