/**
 * What a page is about, and what can be done there: its heading and a sentence under it, on a line of their own in a
 * row of others. Tabs of the browser and its history call the page by its heading.
 */
export function Title({ text, does, className = "mb-4" }: { text: string; does: string; className?: string }) {
  return (
    <>
      <title>{`${text} · Idle Tally`}</title>
      <h1 className="font-bold">{text}</h1>
      <p className={`order-last basis-full text-sm text-muted print:hidden ${className}`}>{does}</p>
    </>
  );
}
