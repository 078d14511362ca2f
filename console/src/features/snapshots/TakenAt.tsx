import { Link } from "react-router";
import type { Snapshot } from "../../api/client";
import { Time } from "../../ui/Time";

/** When a snapshot was taken, leading to what it holds; or since when it is waited for. */
export function TakenAt({ snapshot }: { snapshot: Snapshot }) {
  if (snapshot.state !== "ready") return <Time at={snapshot.created} />;
  return (
    <Link to={`/look?snapshot=${snapshot.id}`}>
      <Time at={snapshot.taken} />
    </Link>
  );
}
