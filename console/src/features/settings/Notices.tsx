import { useState } from "react";
import type { Person, Schemas } from "../../api/client";
import { useOverview } from "../overview/queries";
import { useAddHook, useHooks, useRemoveHook, useTryHook } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Checks } from "../../ui/Checks";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Input } from "../../ui/Input";
import { Select } from "../../ui/Select";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

const kinds = [
  { key: "findings", says: "new findings" },
  { key: "review", says: "plans that wait for a reviewer" },
  { key: "run", says: "runs that ended or stand still" },
  { key: "looks", says: "hosts that are not known any more as of now, and that are again" },
  { key: "editions", says: "editions of baselines that wait for reviewers or are published, and of what they include" },
  { key: "history", says: "the history: where it ends, every hour, and that it is not what it was" },
] as const;
type Kind = (typeof kinds)[number]["key"];
type Severity = NonNullable<Schemas["NewHook"]["severity"]>;
const severities: Severity[] = ["minor", "serious", "grave"];

function Add({ close }: { close: () => void }) {
  const add = useAddHook();
  const applications = useOverview().data?.applications ?? [];
  const [url, setUrl] = useState("");
  const [application, setApplication] = useState("");
  const [chosen, setChosen] = useState<Kind[]>(["findings", "review", "run"]);
  const [severity, setSeverity] = useState<Severity>("minor");
  const [effect, setEffect] = useState<"" | "opens" | "closes">("");
  const [every, setEvery] = useState(0);
  const mail = url.trim().startsWith("mailto:");
  return (
    <Modal title="Have a program told of what happens, or people by mail" close={close}>
      {add.data?.url.startsWith("mailto:") ? (
        <>
          <p>Letters go to {add.data.url.slice("mailto:".length)}. Try it: the line says how that went.</p>
          <DialogEnd close={close} />
        </>
      ) : add.data ? (
        <>
          <p>What is sent to {add.data.url} is signed with this secret:</p>
          <Command text={add.data.secret} />
          <p className="text-sm text-muted">
            It is not shown again. Without it a program cannot tell what comes from here from what others send it.
          </p>
          <DialogEnd close={close} />
        </>
      ) : (
        <Form
          onSubmit={() =>
            add.mutate({
              url: url.trim(),
              kinds: chosen,
              severity,
              ...(effect ? { effect } : {}),
              ...(mail && every ? { every } : {}),
              ...(application ? { application } : {}),
            })
          }
        >
          <Field label="Address" className="block">
            <Input
              className="mono mt-0.5 block w-full"
              required
              type="url"
              placeholder="https://… or mailto:name@host"
              maxLength={1024}
              spellCheck={false}
              value={url}
              onChange={(e) => setUrl(e.target.value)}
            />
          </Field>
          <Field label="Application" className="mt-3 block">
            <Select
              className="mt-0.5 block w-full"
              value={application}
              onChange={(e) => setApplication(e.target.value)}
            >
              <option value="">all</option>
              {applications.map((a) => (
                <option key={a.name}>{a.name}</option>
              ))}
            </Select>
          </Field>
          <Checks legend="Of what" options={kinds} chosen={chosen} choose={setChosen} />
          <Field label="Findings from this severity on" className="mt-3 block">
            <Select className="mt-0.5 block" value={severity} onChange={(e) => setSeverity(e.target.value as Severity)}>
              {severities.map((x) => (
                <option key={x}>{x}</option>
              ))}
            </Select>
          </Field>
          <Field label="Findings by what they mean" className="mt-3 block">
            <Select
              className="mt-0.5 block"
              value={effect}
              onChange={(e) => setEffect(e.target.value as typeof effect)}
            >
              <option value="">all</option>
              <option value="opens">where somebody can do more than declared (opens)</option>
              <option value="closes">where somebody can do less (closes)</option>
            </Select>
          </Field>
          {mail ? (
            <Field label="Letters" className="mt-3 block">
              <Select className="mt-0.5 block" value={every} onChange={(e) => setEvery(Number(e.target.value))}>
                <option value={0}>at once</option>
                <option value={60}>one an hour</option>
                <option value={1440}>one a day</option>
              </Select>
            </Field>
          ) : null}
          <FormEnd error={add.error} close={close} submit="Add it" disabled={add.isPending || chosen.length === 0} />
        </Form>
      )}
    </Modal>
  );
}

/** Programs that are told of what happens. */
export function Notices({ me }: { me: Person }) {
  const admin = may(me, "admin");
  const sees = admin || may(me, "operator");
  const hooks = useHooks(sees);
  const attempt = useTryHook();
  const remove = useRemoveHook();
  const [adding, setAdding] = useState(false);
  const items = hooks.data?.items ?? [];
  return (
    <>
      {admin ? (
        <div className="mb-3">
          <Button look="strong" onClick={() => setAdding(true)}>
            Add a hook…
          </Button>
        </div>
      ) : null}
      {sees ? null : <Note>Operators and admins see which programs are told of what happens.</Note>}
      <Note error={hooks.error ?? attempt.error ?? remove.error} />
      {hooks.data && items.length === 0 ? (
        <Note>
          No hook yet. A chat room, a ticket system, or people by mail can be told of new findings, of plans that wait
          for a reviewer, and of runs that ended.
        </Note>
      ) : null}
      {items.length > 0 ? (
        <Table
          label="Hooks"
          columns={[
            "To",
            "Application",
            "Of",
            "Findings",
            "Told last",
            "Fault",
            "By",
            { name: "Actions", hidden: true },
          ]}
        >
          {items.map((h) => (
            <tr key={h.id}>
              <td className="mono break-all">{h.url}</td>
              <td>{h.application || "all"}</td>
              <td>{h.kinds?.join(", ")}</td>
              <td>
                {h.kinds?.includes("findings") ? `${h.severity} and up${h.effect ? `, what ${h.effect}` : ""}` : "–"}
                {h.every ? `; gathered for ${h.every < 120 ? `${h.every} minutes` : `${h.every / 60} hours`}` : ""}
              </td>
              <td>
                <Time at={h.told} />
              </td>
              <td>{h.fault || "–"}</td>
              <td>{h.author}</td>
              <td className="figure">
                {admin ? (
                  <span className="inline-flex gap-2">
                    <Button
                      disabled={attempt.isPending}
                      onClick={() => attempt.mutate(h.id)}
                      aria-label={`Try ${h.url}`}
                    >
                      Try
                    </Button>
                    <Button
                      disabled={remove.isPending}
                      onClick={() => remove.mutate(h.id)}
                      aria-label={`Remove ${h.url}`}
                    >
                      Remove
                    </Button>
                  </span>
                ) : null}
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      {sees ? <Command text="idletally hook list" /> : null}
      {adding ? <Add close={() => setAdding(false)} /> : null}
    </>
  );
}
