const marks = {
  opens: { shape: "▲", tone: "text-opens bg-opens-wash", says: "somebody can do more than intended" },
  closes: { shape: "▼", tone: "text-closes bg-closes-wash", says: "somebody can do less than intended" },
  both: { shape: "◆", tone: "text-opens bg-opens-wash", says: "some can do more, others less than intended" },
  neither: { shape: "·", tone: "text-muted", says: "nobody's access differs now; what comes later may" },
} as const;

export type Word = keyof typeof marks;

/** An effect: a word and a shape, so that it works without colour. */
export function EffectMark({ word }: { word: string }) {
  const m = marks[word as Word] ?? marks.neither;
  return (
    <span
      className={`inline-flex items-center gap-1 rounded px-1.5 py-0.5 text-[0.8rem] font-semibold whitespace-nowrap ${m.tone}`}
      title={m.says}
    >
      <span aria-hidden="true">{m.shape}</span>
      {word}
    </span>
  );
}
