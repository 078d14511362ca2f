import { Link } from "react-router";
import type { Line } from "./model";

const first = 3;

/** The hosts of a line, those with most findings first. */
export function LineHosts({ application, line }: { application: string; line: Line }) {
  if (line.parts.length === 1) return <Link to={`/hosts/${line.host}`}>{line.host}</Link>;
  return (
    <>
      <strong>{line.parts.length.toLocaleString()} hosts</strong>:{" "}
      {line.parts.slice(0, first).map((g, i) => (
        <span key={g.host}>
          {i > 0 ? ", " : ""}
          <Link to={`/drift/${application}?host=${g.host}`}>{g.host}</Link> {g.count.toLocaleString()}
        </span>
      ))}
      {line.parts.length > first ? ", …" : ""}
    </>
  );
}
