import { Link } from "react-router";
import { useAccount } from "./queries";
import type { Where } from "./model";
import { Note } from "../../ui/Note";

/** Who an account is here, in one line. */
export function Who({ where, name }: { where: Where; name: string }) {
  const account = useAccount(where, name);
  const a = account.data;
  return (
    <>
      <Note error={account.error} />
      {a ? (
        <p className="text-sm">
          <Link to={`/accounts/${encodeURIComponent(name)}?${new URLSearchParams({ ...where }).toString()}`}>
            <strong>{a.name}</strong>
          </Link>
          {a.id ? `, number ${a.id}` : ""}
          {a.groups?.length ? `, in ${a.groups.join(", ")}` : ""}.
          {a.notes?.map((n) => (
            <span key={n} className="text-muted">
              {" "}
              {n[0]?.toUpperCase()}
              {n.slice(1)}.
            </span>
          ))}
        </p>
      ) : null}
    </>
  );
}
