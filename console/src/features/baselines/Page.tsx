import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { useComparison, useEditions, usePublish } from "./queries";
import type { Person } from "../../api/client";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { StateWord } from "../../shared/StateWord";
import { Rest } from "../../ui/Rest";
import { Table } from "../../ui/Table";
import { Tabs } from "../../ui/Tabs";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { Effect } from "./Effect";
import { Explain } from "./Explain";

/** Editions, what one would change, and publishing it. */
function Editions({ application, me, first }: { application: string; me: Person; first: number | undefined }) {
  const editions = useEditions(application);
  const publish = usePublish(application);
  const [shown, setShown] = useState(first);
  const rows = editions.data?.items ?? [];
  const published = rows.find((e) => e.state === "published")?.number;
  const comparison = useComparison(application, published === undefined ? undefined : shown, published ?? 0);
  const author = may(me, "author", application);
  return (
    <>
      <Note error={editions.error ?? publish.error} />
      <Table
        label="Editions"
        columns={[
          { name: "Edition", figure: true },
          "State",
          "Drafted",
          "Published",
          { name: "Actions", hidden: true },
        ]}
      >
        {rows.map((e) => (
          <tr key={e.number}>
            <td className="figure">{e.number}</td>
            <td>
              <StateWord state={e.state} />
            </td>
            <td>
              <Time at={e.created} /> by {e.author}
            </td>
            <td>
              {e.published ? (
                <>
                  <Time at={e.published} /> by {e.published_by}
                </>
              ) : (
                "–"
              )}
            </td>
            <td className="figure">
              <span className="inline-flex gap-2">
                <Link className="self-center text-sm" to={`/baselines/${application}/edit?from=${e.number}`}>
                  {author ? "Edit the text" : "Read the text"}
                </Link>
                {e.state !== "published" ? (
                  <Button
                    onClick={() => setShown(shown === e.number ? undefined : e.number)}
                    aria-expanded={shown === e.number}
                    aria-label={`What would it change? Edition ${e.number}`}
                  >
                    What would it change?
                  </Button>
                ) : null}
              </span>
            </td>
          </tr>
        ))}
      </Table>
      {shown !== undefined ? (
        <section className="mt-4 rounded border border-line bg-sheet p-4" aria-label={`Effect of edition ${shown}`}>
          <h2 className="mb-2 font-bold">
            {published === undefined
              ? `Edition ${shown} would be the first`
              : `Edition ${shown} in place of ${published}, on the last snapshots`}
          </h2>
          <Note error={comparison.error} />
          {comparison.isFetching && !comparison.data ? <p className="text-muted">Comparing …</p> : null}
          {comparison.data ? <Effect effect={comparison.data} /> : null}
          {author ? (
            <Button
              look="strong"
              disabled={publish.isPending}
              onClick={() => publish.mutate(shown, { onSuccess: () => setShown(undefined) })}
            >
              Publish edition {shown}
            </Button>
          ) : null}
        </section>
      ) : null}
      <Rest of={editions.data} command={`idletally baseline list ${application} --all`} />
      <Command text={`idletally baseline list ${application}`} />
    </>
  );
}

export default function Baseline({ me }: { me: Person }) {
  const { application = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-x-6">
        <Title
          text={`Baseline of ${application}`}
          does="Read what is declared, review another edition, and publish it."
          className=""
        />
        <Link to={`/drift/${application}`}>its drift</Link>
      </div>
      <Tabs
        at={search.get("tab") ?? ""}
        go={(tab) => setSearch(tab ? { tab } : {}, { replace: true })}
        tabs={[
          {
            key: "",
            name: "Editions",
            panel: <Editions application={application} me={me} first={Number(search.get("effect")) || undefined} />,
          },
          { key: "explain", name: "Why this, here?", panel: <Explain application={application} /> },
        ]}
      />
    </>
  );
}
