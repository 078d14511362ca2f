import { useNews, useSeeNews } from "./queries";
import { Button } from "../../ui/Button";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";

/** What has changed in how the person who looks signs in, and who tried to, until they say that they have seen it. */
export function SignInNews() {
  const { data } = useNews();
  const see = useSeeNews();
  const until = data?.until;
  if (!data?.items?.length || !until) return null;
  return (
    <section aria-labelledby="news" className="mb-8">
      <h2 id="news" className="mb-2 font-semibold">
        What has changed in how you sign in
      </h2>
      <Table
        label="What has changed in how you sign in"
        columns={["Last", "What", "By", { name: "Times", figure: true }, "Detail"]}
      >
        {data.items.map((n) => (
          <tr key={`${n.what} ${n.who} ${n.detail}`}>
            <td>
              <Time at={n.last} seconds />
            </td>
            <td>{n.what}</td>
            <td>{n.who}</td>
            <td className="figure">{n.times}</td>
            <td>{n.detail}</td>
          </tr>
        ))}
      </Table>
      <p className="mt-2 text-sm text-muted">
        What was not you: change your password, end your other sessions, and tell an admin.
      </p>
      <p className="mt-3">
        <Button disabled={see.isPending} onClick={() => see.mutate(until)}>
          I have seen it
        </Button>
      </p>
      <Note error={see.error} />
    </section>
  );
}
