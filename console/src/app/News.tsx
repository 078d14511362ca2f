import { Link, useLocation } from "react-router";
import { useNews } from "../features/settings/queries";

/** Says on every page that something has changed in how somebody signs in, until they have seen it. */
export function News() {
  const { data } = useNews();
  const { pathname, search } = useLocation();
  const n = data?.items?.length ?? 0;
  if (n === 0 || (pathname === "/settings" && search === "?tab=you")) return null;
  return (
    <p role="status" className="mt-4 rounded border-l-4 border-opens bg-sheet px-4 py-2 print:hidden">
      {n === 1
        ? "Something has changed in how you sign in, or somebody tried to."
        : `${n} things have changed in how you sign in, or somebody tried to.`}{" "}
      <Link className="underline" to="/settings?tab=you">
        Look at it
      </Link>
    </p>
  );
}
