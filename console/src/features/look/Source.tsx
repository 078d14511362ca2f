import { useState } from "react";
import { useAccounts } from "./queries";
import type { Look } from "./address";
import { WhereChoice } from "./WhereChoice";
import { Button } from "../../ui/Button";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { CodeField } from "../../ui/CodeField";

/** Where is looked, at which path, and as whom. */
export function Source({ look }: { look: Look }) {
  const accounts = useAccounts(look.where);
  const [path, setPath] = useState(look.path);
  const [account, setAccount] = useState(look.account);
  return (
    <Form
      className="flex flex-wrap items-end gap-x-3 gap-y-2"
      onSubmit={() => look.set({ path: path.trim(), for: account.trim() })}
    >
      <WhereChoice
        label="Where"
        className="w-72 text-sm"
        where={look.where}
        choose={(w) => look.set({ host: w.host ?? "", snapshot: w.snapshot ?? "" })}
      />
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
