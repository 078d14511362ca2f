import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { flagsOf, quoted } from "./model";
import { useHolders } from "./queries";
import type { Look } from "./address";
import { Command } from "../../ui/Command";
import { NoSuch } from "../../shared/NoSuch";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";

function List({ look, path, operation }: { look: Look; path: string; operation: string }) {
  const holders = useHolders(look.where, path, operation, look.supposed, true);
  const h = holders.data;
  return (
    <>
      <Note error={holders.error} />
      {h ? (
        <>
          <p className="my-1 text-sm">
            {h.allowed?.length ?? 0} of {h.accounts.toLocaleString()} accounts
            {h.suppose ? `, supposed that ${h.suppose}` : ""}. Everyone else {h.everyone.allowed ? "can too" : "cannot"}
            : {h.everyone.reason}.
          </p>
          <Table label={`All who can ${operation}`} columns={["Account", "Because"]}>
            {h.allowed?.map((a) => (
              <tr key={a.account}>
                <td>
                  {a.account}
                  <NoSuch when={!a.known} />
                </td>
                <td className="text-sm">{a.reason}</td>
              </tr>
            ))}
          </Table>
          <Command text={`idletally access holders ${flagsOf(look.where)} ${operation} ${quoted(path)}`} />
        </>
      ) : null}
    </>
  );
}

/** All accounts of the host that can do one thing here, not only those that the path speaks of. */
export function Holders({ look, path, operation }: { look: Look; path: string; operation: string }) {
  return (
    <Disclosure as="section" className="mt-6">
      {({ open }) => (
        <>
          <DisclosureButton className="cursor-pointer font-semibold hover:underline">
            All who can {operation} here <span aria-hidden="true">{open ? "▾" : "▸"}</span>
          </DisclosureButton>
          <DisclosurePanel>
            <List look={look} path={path} operation={operation} />
          </DisclosurePanel>
        </>
      )}
    </Disclosure>
  );
}
