import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAccounts } from "./queries";
import type { Look } from "./address";
import { useHosts } from "../../api/queries";
import { useSnapshots } from "../snapshots/queries";
import { Button } from "../../ui/Button";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { CodeField } from "../../ui/CodeField";

const near = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

const named = (s: Schemas["Snapshot"]) =>
  `${s.host}, ${s.application}, ${s.taken ? near.format(new Date(s.taken)) : ""}`;

/** Where is looked, at which path, and as whom. */
export function Source({ look }: { look: Look }) {
  const hosts = useHosts();
  const snapshots = useSnapshots();
  const accounts = useAccounts(look.where);
  const [path, setPath] = useState(look.path);
  const [account, setAccount] = useState(look.account);
  const ready = snapshots.data?.items?.filter((s) => s.state === "ready") ?? [];
  const source = look.where.host
    ? `host:${look.where.host}`
    : look.where.snapshot
      ? `snapshot:${look.where.snapshot}`
      : "";
  return (
    <Form
      className="flex flex-wrap items-end gap-x-3 gap-y-2"
      onSubmit={() => look.set({ path: path.trim(), for: account.trim() })}
    >
      <Field label="Where" className="text-sm">
        <Select
          className="mt-0.5 block max-w-72"
          value={source}
          onChange={(e) => {
            const [kind = "", what = ""] = e.target.value.split(":");
            look.set({ host: kind === "host" ? what : "", snapshot: kind === "snapshot" ? what : "" });
          }}
        >
          {source === "" ? <option value="">choose…</option> : null}
          <optgroup label="Hosts, now">
            {hosts.data?.items
              ?.filter((h) => h.enrolled)
              .map((h) => (
                <option key={h.name} value={`host:${h.name}`}>
                  {h.name}, now
                </option>
              ))}
          </optgroup>
          <optgroup label="Newest snapshots">
            {ready.map((s) => (
              <option key={s.id} value={`snapshot:${s.id}`}>
                {named(s)}
              </option>
            ))}
            {look.where.snapshot && !ready.some((s) => s.id === look.where.snapshot) ? (
              <option value={source}>{look.where.snapshot}</option>
            ) : null}
          </optgroup>
        </Select>
      </Field>
      <CodeField
        label="Path"
        className="min-w-48 flex-1 text-sm"
        width="w-full"
        placeholder="/srv/…"
        value={path}
        change={setPath}
      />
      <Field label="As account" className="w-44 text-sm">
        <Input
          className="mt-0.5 block w-full"
          spellCheck={false}
          list="accounts"
          placeholder="anyone"
          value={account}
          onChange={(e) => setAccount(e.target.value)}
        />
        <datalist id="accounts">
          <option value="everyone" />
          {accounts.data?.accounts?.map((a) => (
            <option key={a} value={a} />
          ))}
        </datalist>
      </Field>
      <Button type="submit" look="strong">
        Look
      </Button>
    </Form>
  );
}
