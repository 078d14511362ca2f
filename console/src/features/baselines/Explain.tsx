import { useSearchParams } from "react-router";
import { useExplanation } from "./queries";
import { useApplications } from "../../api/queries";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Select } from "../../ui/Select";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { Button } from "../../ui/Button";

/** Which rule decides which aspect of a path, and which say it in vain. */
export function Explain({ application }: { application: string }) {
  const [search, setSearch] = useSearchParams();
  const apps = useApplications();
  const hosts = apps.data?.items?.find((a) => a.name === application)?.hosts?.map((h) => h.host) ?? [];
  const host = search.get("host") ?? hosts[0] ?? "";
  const path = search.get("path") ?? "";
  const found = useExplanation(application, 0, host, path);
  const x = found.data;
  return (
    <>
      <Form
        className="mb-3 flex flex-wrap items-end gap-4"
        onSubmit={(e) => {
          const form = new FormData(e.currentTarget);
          const text = (name: string) => {
            const value = form.get(name);
            return typeof value === "string" ? value : "";
          };
          setSearch({ tab: "explain", host: text("host"), path: text("path") }, { replace: true });
        }}
      >
        <Field label="Host">
          <Select key={host} name="host" className="block" defaultValue={host}>
            {hosts.map((h) => (
              <option key={h}>{h}</option>
            ))}
          </Select>
        </Field>
        <Field label="Path" className="min-w-0 flex-1">
          <Input
            key={path}
            name="path"
            required
            defaultValue={path}
            placeholder="/srv/…"
            className="mono block w-full"
          />
        </Field>
        <Button type="submit">Explain</Button>
      </Form>
      <Note error={found.error} />
      {x ? (
        <>
          <p className="mb-2">
            {x.kind}, {x.seen ? "as in its last snapshot" : "not in its last snapshot: taken for a file"}; edition{" "}
            {x.edition}
          </p>
          {x.leave_alone ? <Note>The baseline leaves this path alone.</Note> : null}
          {!x.leave_alone && x.aspects?.length === 0 ? <Note>No rule speaks of this path.</Note> : null}
          {x.aspects?.length ? (
            <Table label="What decides" columns={["Aspect", "Rule", "Declared", "Found", "Overruled", "Why"]}>
              {x.aspects.map((a) => (
                <tr key={a.aspect}>
                  <td className="font-semibold">{a.aspect}</td>
                  <td>{a.rule}</td>
                  <td>
                    <code>{a.declared}</code>
                  </td>
                  <td>{a.found ? <code>{a.found}</code> : <span className="text-muted">as declared</span>}</td>
                  <td className="text-muted">{a.overruled?.join(", ")}</td>
                  <td>{a.why}</td>
                </tr>
              ))}
            </Table>
          ) : null}
          {x.not_for?.length ? (
            <p className="mt-2 text-sm text-muted">
              These rules match the path, and their conditions do not: {x.not_for.join(", ")}
            </p>
          ) : null}
        </>
      ) : null}
      {host && path ? (
        <Command
          text={`idletally baseline explain ${application} '${path.replaceAll("'", String.raw`'\''`)}' --host ${host}`}
        />
      ) : null}
    </>
  );
}
