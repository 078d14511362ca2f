import { useState } from "react";
import { useAccounts } from "./queries";
import type { Look } from "./address";
import { useApplications } from "../../api/queries";
import { usePlans } from "../plans/queries";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";

const open = new Set(["draft", "in review", "approved"]);

/** What is supposed beside what is: an edition held, a plan run, a group joined. */
export function Suppose({ look, joining }: { look: Look; joining: boolean }) {
  const apps = useApplications();
  const plans = usePlans();
  const accounts = useAccounts(look.where);
  const [group, setGroup] = useState(look.joining);
  return (
    <div className="my-2 flex flex-wrap items-end gap-3">
      <Field label="Suppose" className="text-sm">
        <Select
          className="mt-0.5 block max-w-80"
          value={look.suppose}
          onChange={(e) => look.set({ suppose: e.target.value })}
        >
          <option value="">nothing: as it is</option>
          {apps.data?.items
            ?.filter((a) => a.published > 0)
            .map((a) => (
              <option key={a.name} value={`edition:${a.name}/0`}>
                everything is as declared for {a.name}
              </option>
            ))}
          {plans.data?.pages[0]?.items
            ?.filter((p) => open.has(p.state))
            .map((p) => (
              <option key={p.id} value={`plan:${p.id}`}>
                the plan “{p.title}” has been run
              </option>
            ))}
        </Select>
      </Field>
      {joining ? (
        <Form onSubmit={() => look.set({ joining: group.trim() })}>
          <Field label={<>and {look.account} joins the group</>} className="text-sm">
            <Input
              className="mt-0.5 block w-40"
              list="groups"
              spellCheck={false}
              value={group}
              onChange={(e) => setGroup(e.target.value)}
              onBlur={() => look.set({ joining: group.trim() })}
            />
          </Field>
          <datalist id="groups">
            {accounts.data?.groups?.map((g) => (
              <option key={g} value={g} />
            ))}
          </datalist>
        </Form>
      ) : null}
    </div>
  );
}
