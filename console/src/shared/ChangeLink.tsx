import type { ReactNode } from "react";
import { Link } from "react-router";
import { beginAt } from "./wish";

/** Leads from wherever a path is shown to where it is changed. */
export function ChangeLink({
  host,
  paths,
  className = "",
  children = "Change it…",
}: {
  host: string;
  paths: readonly string[];
  className?: string;
  children?: ReactNode;
}) {
  return (
    <Link to={beginAt(host, paths)} className={className}>
      {children}
    </Link>
  );
}
