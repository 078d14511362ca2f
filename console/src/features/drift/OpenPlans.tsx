import { Link } from "react-router";
import { useOverview } from "../overview/queries";

/** The plans of an application that are in review or approved: perhaps what is shown is about to be mended. */
export function OpenPlans({ application }: { application: string }) {
  const open =
    useOverview().data?.needs?.filter(
      (n) => n.application === application && ["review", "approved", "run"].includes(n.kind),
    ) ?? [];
  if (open.length === 0) return null;
  const says: Record<string, string> = { review: "in review", approved: "approved", run: "halted run" };
  return (
    <p className="mb-3 text-sm">
      Under way:{" "}
      {open.map((n) => (
        <span key={n.subject} className="mr-3">
          <Link to={n.kind === "run" ? `/runs/${n.subject}` : `/plans/${n.subject}`}>{n.title}</Link>{" "}
          <span className="text-muted">({says[n.kind]})</span>
        </span>
      ))}
    </p>
  );
}
