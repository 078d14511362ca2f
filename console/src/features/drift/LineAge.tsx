import type { Group } from "../../api/client";
import { Time } from "../../ui/Time";

/** Since when findings are there, and how many came or came back last. */
export function LineAge({ group }: { group: Group }) {
  if (!group.since) return null;
  if (group.fresh === group.count) return <strong> · new</strong>;
  return (
    <>
      {" · since "}
      <Time at={group.since} />
      {group.fresh ? <strong> · {group.fresh.toLocaleString()} new</strong> : null}
      {group.returned ? <strong> · {group.returned.toLocaleString()} came back</strong> : null}
      {group.unread ? (
        <strong> · {group.unread === group.count ? "" : `${group.unread.toLocaleString()} `}as last read</strong>
      ) : null}
    </>
  );
}
