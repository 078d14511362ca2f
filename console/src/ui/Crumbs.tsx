import { Link } from "react-router";

/** A path as links to the folders that it is made of. */
export function Crumbs({ path, to }: { path: string; to: (path: string) => string }) {
  const parts = path.split("/").filter(Boolean);
  const at = (n: number) => "/" + parts.slice(0, n).join("/");
  return (
    <nav aria-label="Way to this path" className="my-2">
      <Link to={to("/")}>
        <code>/</code>
      </Link>
      {parts.map((name, i) => (
        <span key={at(i + 1)}>
          {i > 0 ? <span className="text-muted"> / </span> : " "}
          <Link to={to(at(i + 1))} aria-current={i === parts.length - 1 ? "page" : undefined}>
            <code>{name}</code>
          </Link>
        </span>
      ))}
    </nav>
  );
}
