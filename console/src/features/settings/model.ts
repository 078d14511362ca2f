/** An edition of the roster as somebody begins the next one: its number, what it follows on, and its times. */
export function nextEdition(text: string, digest: string, now: Date): string {
  const stamp = (d: Date) => `${d.toISOString().slice(0, 19)}Z`;
  const until = new Date(now);
  until.setUTCFullYear(until.getUTCFullYear() + 1);
  const lines = text.split("\n").filter((line) => !line.startsWith("before: "));
  return lines
    .map((line) => {
      if (line.startsWith("edition: ")) return `edition: ${Number(line.slice(9)) + 1}\nbefore: ${digest}`;
      if (line.startsWith("made: ")) return `made: ${stamp(now)}`;
      if (line.startsWith("until: ")) return `until: ${stamp(until)}`;
      return line;
    })
    .join("\n");
}

/** A right in words: "approve plans of ticketing on every host". */
export function sayRight(right: string): string {
  const [does, application, host] = right.split(" ");
  const of = application === "*" ? "every application" : application;
  return `${does} plans of ${of} on ${host === "*" ? "every host" : host}`;
}
