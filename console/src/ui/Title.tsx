/** What a page is about: its heading, and what tabs of the browser and its history call it. */
export function Title({ text, className = "mb-4" }: { text: string; className?: string }) {
  return (
    <>
      <title>{`${text} · Idle Tally`}</title>
      <h1 className={`font-bold ${className}`}>{text}</h1>
    </>
  );
}
