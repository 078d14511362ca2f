import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Button } from "../../ui/Button";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";

/** Which host is looked at: from a list where there are few, by name where there are many. */
export function HostChoice({
  standing,
  host,
  choose,
}: {
  standing: Schemas["Standing"];
  host: string;
  choose: (host: string) => void;
}) {
  const [name, setName] = useState(host);
  const cells = standing.cells ?? [];
  if (standing.hosts <= 50) {
    return (
      <Field label="Host" className="mb-3 block">
        <Select value={host} onChange={(e) => choose(e.target.value)}>
          <option value="">all</option>
          {cells.map((c) => (
            <option key={c.host}>{c.host}</option>
          ))}
          {host && !cells.some((c) => c.host === host) ? <option>{host}</option> : null}
        </Select>
      </Field>
    );
  }
  return (
    <Form className="mb-3 flex flex-wrap items-end gap-2" onSubmit={() => choose(name.trim())}>
      <Field label="Host" className="text-sm">
        <Input
          className="mt-0.5 block w-56"
          list="hosts-of-it"
          placeholder={`all ${standing.hosts.toLocaleString()}`}
          spellCheck={false}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      </Field>
      <datalist id="hosts-of-it">
        {cells.map((c) => (
          <option key={c.host} value={c.host}>
            {c.findings.toLocaleString()} findings
          </option>
        ))}
      </datalist>
      <Button type="submit">Look at it</Button>
      {host ? <Button onClick={() => choose("")}>All hosts</Button> : null}
    </Form>
  );
}
