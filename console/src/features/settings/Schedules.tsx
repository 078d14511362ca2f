import { useState } from "react";
import type { Person } from "../../api/client";
import { useOverview } from "../overview/queries";
import { useAddSchedule, useRemoveSchedule, useSchedules } from "./queries";
import { may, maySomewhere } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

function Add({ me, close }: { me: Person; close: () => void }) {
  const add = useAddSchedule();
  const applications =
    useOverview().data?.applications?.filter((a) => a.published && may(me, "operator", a.name)) ?? [];
  const [chosen, setChosen] = useState("");
  const [cron, setCron] = useState("30 2 * * *");
  const [tag, setTag] = useState("");
  const [minutes, setMinutes] = useState(30);
  const application = chosen || applications[0]?.name || "";
  return (
    <Modal title="Have snapshots taken by themselves" close={close}>
      <Form
        onSubmit={() =>
          add.mutate(
            { application, cron: cron.trim(), zone, spread: minutes * 60, ...(tag.trim() ? { tag: tag.trim() } : {}) },
            { onSuccess: close },
          )
        }
      >
        <Field label="Application" className="block">
          <Select className="mt-0.5 block w-full" value={application} onChange={(e) => setChosen(e.target.value)}>
            {applications.map((a) => (
              <option key={a.name}>{a.name}</option>
            ))}
          </Select>
        </Field>
        <Field label={<>When: minute hour day month weekday, in {zone}</>} className="mt-3 block">
          <Input
            className="mono mt-0.5 block w-full"
            required
            value={cron}
            spellCheck={false}
            onChange={(e) => setCron(e.target.value)}
          />
        </Field>
        <Field label="Only on hosts with this tag" className="mt-3 block">
          <Input
            className="mt-0.5 block w-full"
            placeholder="all of its hosts"
            value={tag}
            spellCheck={false}
            onChange={(e) => setTag(e.target.value)}
          />
        </Field>
        <Field label="Spread over so many minutes" className="mt-3 block">
          <Input
            type="number"
            min={0}
            max={1440}
            className="mt-0.5 block w-28"
            value={minutes}
            onChange={(e) => setMinutes(e.target.valueAsNumber || 0)}
          />
        </Field>
        <FormEnd error={add.error} close={close} submit="Schedule it" disabled={add.isPending || !application} />
      </Form>
    </Modal>
  );
}

/** When snapshots are taken by themselves. */
export function Schedules({ me }: { me: Person }) {
  const schedules = useSchedules();
  const remove = useRemoveSchedule();
  const [adding, setAdding] = useState(false);
  const items = schedules.data?.items ?? [];
  return (
    <>
      {maySomewhere(me, "operator") ? (
        <div className="mb-3">
          <Button look="strong" onClick={() => setAdding(true)}>
            Add a schedule…
          </Button>
        </div>
      ) : null}
      <Note error={schedules.error ?? remove.error} />
      {schedules.data && items.length === 0 ? (
        <Note>
          No schedule yet. Hosts that are watched tell of changes by themselves; the others, such as file servers, are
          looked at when somebody asks, or by a schedule.
        </Note>
      ) : null}
      {items.length > 0 ? (
        <Table
          label="Schedules"
          columns={["Application", "Hosts", "When", "Spread", "Next", "Last", "By", { name: "Actions", hidden: true }]}
        >
          {items.map((x) => (
            <tr key={x.id}>
              <td>{x.application}</td>
              <td>{x.tag ? `with tag ${x.tag}` : "all"}</td>
              <td>
                <code>{x.cron}</code> <span className="text-sm text-muted">{x.zone || "UTC"}</span>
              </td>
              <td>{x.spread ? `${Math.round(x.spread / 60)} min` : "–"}</td>
              <td>
                <Time at={x.next} />
              </td>
              <td>
                <Time at={x.last} />
              </td>
              <td>{x.author}</td>
              <td className="figure">
                {may(me, "operator", x.application) ? (
                  <Button
                    disabled={remove.isPending}
                    onClick={() => remove.mutate(x.id)}
                    aria-label={`Remove the schedule of ${x.application}`}
                  >
                    Remove
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      <Command text="idletally schedule list" />
      {adding ? <Add me={me} close={() => setAdding(false)} /> : null}
    </>
  );
}
