import { useMemo } from "react";
import type { Person, Schemas, View } from "../../api/client";
import { flagsOf, quoted } from "./model";
import { useDecide, useMatrix } from "./queries";
import type { Look } from "./address";
import { Answered } from "./Answered";
import { ChangeLink } from "../../shared/ChangeLink";
import { maySomewhere } from "../../shared/roles";
import { Command } from "../../ui/Command";
import { NoSuch } from "../../shared/NoSuch";
import { Note } from "../../ui/Note";
import { Proposals } from "./Proposals";
import { Table } from "../../ui/Table";
import { WhyChain } from "./WhyChain";
import { Holders } from "./Holders";
import { Restrict } from "./Restrict";
import { Suppose } from "./Suppose";

type Row = Schemas["MatrixRow"];

/** Who can do what here, and the way that decides one of it. */
export function WhoCan({ look, sight, me }: { look: Look; sight: Schemas["Sight"]; me: Person }) {
  const matrix = useMatrix(look.where, sight.path, look.supposed, true);
  const decide = useDecide(look.where, sight.path, look.account, look.supposed, true);
  const views = useMemo(() => {
    const m = new Map<string, View | undefined>(sight.way?.map((p) => [p.path, p.access]));
    return m.set(sight.path, sight.access);
  }, [sight]);
  const rows = useMemo<Row[]>(() => {
    const all = matrix.data?.rows ?? [];
    const j = decide.data;
    if (!j) return all;
    const asked = {
      account: j.account.name,
      known: j.account.known,
      part: all.find((r) => r.account === j.account.name)?.part ?? "",
      cells: j.answers,
      then: j.then,
    };
    return [asked, ...all.filter((r) => r.account !== j.account.name)];
  }, [matrix.data, decide.data]);
  const operations = matrix.data?.operations ?? [];
  const row = rows.find((r) => r.account === look.row) ?? rows[0];
  const column = Math.max(operations.indexOf(look.operation), 0);
  const then = row?.then?.[column];
  const now = row?.cells?.[column];
  const more = (matrix.data?.accounts ?? 0) - (matrix.data?.rows?.length ?? 0);
  return (
    <>
      <Suppose look={look} joining={look.account !== "" && look.account !== "everyone"} />
      <Note error={matrix.error ?? decide.error} />
      {matrix.data ? (
        <Table label="Who can do what here" columns={["Account", ...operations]}>
          {rows.map((r) => (
            <tr key={r.account} className={r === row ? "bg-sheet" : ""}>
              <th scope="row" className="rowhead">
                {r.account}
                <NoSuch when={!r.known} />
                <span className="block text-xs font-normal text-muted">{r.part}</span>
              </th>
              {operations.map((op, i) => (
                <td key={op}>
                  <button
                    type="button"
                    className={`cursor-pointer rounded px-1 py-1 hover:bg-line ${r === row && i === column ? "ring-2 ring-ink" : ""}`}
                    title={`Why ${r.account} ${r.cells?.[i]?.unknown ? "can perhaps" : r.cells?.[i]?.allowed ? "can" : "cannot"} ${op}`}
                    aria-pressed={r === row && i === column}
                    onClick={() => look.set({ row: r.account, operation: op })}
                  >
                    <Answered now={r.cells?.[i]} then={r.then?.[i]} />
                  </button>
                </td>
              ))}
            </tr>
          ))}
        </Table>
      ) : null}
      {more > 0 ? (
        <p className="text-sm text-muted">
          {more.toLocaleString()} more accounts matter here; ask for one by name above.
        </p>
      ) : null}
      {row && now ? (
        <section aria-label="Why" className="mt-4" aria-live="polite">
          <h3 className="mb-1 font-semibold">{then ? "Now" : "Why"}</h3>
          <WhyChain answer={now} who={row.account} path={sight.path} views={views} />
          {!now.allowed && row.account !== "everyone" ? (
            <Proposals
              key={`${row.account} ${now.operation}`}
              where={look.where}
              path={sight.path}
              account={row.account}
              operation={now.operation}
              me={me}
            />
          ) : null}
          {then ? (
            <>
              <h3 className="mt-4 mb-1 font-semibold">Then: {decide.data?.suppose || matrix.data?.suppose}</h3>
              <WhyChain answer={then} who={row.account} path={sight.path} views={new Map()} />
            </>
          ) : null}
          {sight.origin.host && maySomewhere(me, "author") ? (
            <p className="mt-3">
              <ChangeLink host={sight.origin.host} paths={[sight.path]}>
                Change who can…
              </ChangeLink>
            </p>
          ) : null}
          <Command
            text={`idletally access decide ${flagsOf(look.where)} ${quoted(row.account)} ${quoted(sight.path)} ${operations[column]}`}
          />
        </section>
      ) : null}
      {operations[column] ? (
        <Restrict
          key={`only ${operations[column]}`}
          where={look.where}
          path={sight.path}
          operation={operations[column]}
          me={me}
        />
      ) : null}
      {operations[column] ? (
        <Holders key={operations[column]} look={look} path={sight.path} operation={operations[column]} />
      ) : null}
    </>
  );
}
