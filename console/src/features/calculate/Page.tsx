import { useState } from "react";
import { useEntries, useMode, useModeChange, useNew } from "./queries";
import { Command } from "../../ui/Command";
import { Effective } from "../../shared/Effective";
import { Made } from "../../shared/Made";
import { ModeCells } from "../../shared/ModeCells";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { TallyGrid } from "../../shared/TallyGrid";
import { quoted } from "../look/model";
import { Title } from "../../ui/Title";
import { useSettled } from "../../ui/useSettled";
import { Input } from "../../ui/Input";
import { TextArea } from "../../ui/TextArea";
import { Field } from "../../ui/Field";
import { Checkbox } from "../../ui/Checkbox";
import { CodeField } from "../../ui/CodeField";

const forms = [
  { key: "octal", name: "Octal digits", wide: "w-28" },
  { key: "letters", name: "Letters of a listing", wide: "w-40" },
  { key: "symbolic", name: "Symbolic", wide: "w-64" },
] as const;

type Form = (typeof forms)[number]["key"];

function Words({ title, lines }: { title: string; lines?: readonly string[] | null }) {
  return (
    <div>
      <h3 className="mb-1 font-semibold">{title}</h3>
      <ul className="list-disc pl-5">
        {lines?.map((l) => (
          <li key={l}>{l}</li>
        ))}
      </ul>
    </div>
  );
}

/** One mode in every form; editing one, the others follow. */
function ModePart() {
  const [typed, setTyped] = useState({ form: "octal" as Form, text: "2750" });
  const [limits, setLimits] = useState("");
  const asked = useSettled(typed.text.trim());
  const mode = useMode(asked, useSettled(limits.trim()));
  const m = mode.data;
  const octal = m?.octal ?? "0000";
  return (
    <section aria-labelledby="mode">
      <h2 id="mode" className="mb-2 font-bold">
        A mode
      </h2>
      <div className="flex flex-wrap items-start gap-x-8 gap-y-3">
        <ModeCells mode={octal} change={(o) => setTyped({ form: "octal", text: o })} />
        <div className="flex min-w-60 flex-1 flex-wrap gap-3">
          {forms.map((f) => (
            <Field key={f.key} label={f.name} className="max-w-full text-sm">
              <Input
                className={`mono mt-0.5 block ${f.wide} max-w-full`}
                spellCheck={false}
                aria-invalid={typed.form === f.key && mode.isError}
                value={typed.form === f.key ? typed.text : (m?.[f.key] ?? "")}
                onChange={(e) => setTyped({ form: f.key, text: e.target.value })}
              />
            </Field>
          ))}
          <CodeField
            label="Limits: must have, must not have"
            className="max-w-full text-sm"
            width="w-56 max-w-full"
            placeholder="g+r,o-w"
            value={limits}
            change={setLimits}
          />
          <div className="w-full">
            <Note error={mode.error} />
            {m?.broken?.length ? (
              <Note>
                {m.broken.join("; ")}. The nearest mode that keeps the limits is <code>{m.mended}</code>.
              </Note>
            ) : null}
            <pre className="mono mt-1 overflow-x-auto text-sm" aria-label="Arithmetic" tabIndex={0}>
              {m?.arithmetic?.join("\n")}
            </pre>
          </div>
        </div>
      </div>
      <div className="mt-3 grid grid-cols-1 gap-6 md:grid-cols-2">
        <Words title="On a file" lines={m?.file} />
        <Words title="On a folder" lines={m?.folder} />
      </div>
      <Command
        text={`idletally mode show ${quoted(octal)}${limits.trim() ? ` --limits ${quoted(limits.trim())}` : ""}`}
      />
    </section>
  );
}

/** What a symbolic change makes of a mode. */
function ChangePart() {
  const [from, setFrom] = useState("0644");
  const [change, setChange] = useState("u+x,g=u,o=");
  const [umask, setUmask] = useState("0022");
  const [folder, setFolder] = useState(false);
  const result = useModeChange(useSettled(from.trim()), useSettled(change.trim()), folder, useSettled(umask.trim()));
  return (
    <section aria-labelledby="change">
      <h2 id="change" className="mb-2 font-bold">
        A change
      </h2>
      <div className="flex flex-wrap items-end gap-3">
        <CodeField label="From" className="text-sm" width="w-28" value={from} change={setFrom} />
        <CodeField
          label="Symbolic change"
          className="text-sm"
          width="w-52 max-w-full"
          value={change}
          change={setChange}
        />
        <CodeField
          label="Umask, where nobody is named"
          className="text-sm"
          width="w-24"
          value={umask}
          change={setUmask}
        />
        <Checkbox
          checked={folder}
          onChange={(e) => setFolder(e.target.checked)}
          className="flex items-center gap-2 pb-2 text-sm"
        >
          of a folder
        </Checkbox>
      </div>
      <Note error={result.error} />
      {result.data && !result.error ? (
        <p className="mt-3 flex items-center gap-3">
          <TallyGrid mode={result.data.octal} />{" "}
          <code>
            {result.data.octal} {result.data.letters}
          </code>
        </p>
      ) : null}
      <Command
        text={`idletally mode change ${quoted(from)} ${quoted(change)} --umask ${quoted(umask)}${folder ? " --folder" : ""}`}
      />
    </section>
  );
}

/** What new files and folders get. */
function NewPart() {
  const [inside, setInside] = useState("2770");
  const [umask, setUmask] = useState("0027");
  const [defaults, setDefaults] = useState("");
  const made = useNew(useSettled(inside.trim()), useSettled(umask.trim()), useSettled(defaults.trim()));
  return (
    <section aria-labelledby="new">
      <h2 id="new" className="mb-2 font-bold">
        What new files and folders get
      </h2>
      <div className="flex flex-wrap items-end gap-3">
        <CodeField label="In a folder with mode" className="text-sm" width="w-28" value={inside} change={setInside} />
        <CodeField label="Umask of the process" className="text-sm" width="w-24" value={umask} change={setUmask} />
        <CodeField
          label="Default entries of the folder"
          className="min-w-40 max-w-full flex-1 text-sm"
          width="w-full"
          placeholder="user::rwx,group::r-x,other::---"
          value={defaults}
          change={setDefaults}
        />
      </div>
      <Note error={made.error} />
      {made.data && !made.error ? (
        <div className="mt-2">
          <Made made={made.data} />
        </div>
      ) : null}
      <Command
        text={`idletally mode new --in ${quoted(inside)} --umask ${quoted(umask)}${defaults ? ` --defaults ${quoted(defaults)}` : ""}`}
      />
    </section>
  );
}

/** An access list in both text forms, with what the mask leaves. */
function EntriesPart() {
  const [text, setText] = useState("user::rw-\nuser:web:rwx\ngroup::r--\nmask::r-x\nother::---");
  const [chmod, setChmod] = useState("");
  const list = useEntries(useSettled(text), useSettled(chmod.trim()));
  const l = list.data;
  return (
    <section aria-labelledby="entries">
      <h2 id="entries" className="mb-2 font-bold">
        An access list
      </h2>
      <div className="grid grid-cols-1 gap-x-6 gap-y-3 md:grid-cols-2">
        <div>
          <Field label="Entries, one a line or apart by commas" className="text-sm">
            <TextArea
              rows={6}
              className="mono mt-0.5 block w-full"
              spellCheck={false}
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
          </Field>
          <CodeField
            label="and then the mode is changed to"
            className="mt-2 block text-sm"
            width="w-28"
            value={chmod}
            change={setChmod}
          />
        </div>
        <div>
          <Note error={list.error} />
          {l && !list.error ? (
            <>
              {l.mode ? (
                <p className="mb-2 flex items-center gap-3">
                  <TallyGrid mode={l.mode} />{" "}
                  <code>
                    {l.mode} {l.letters}
                  </code>
                </p>
              ) : null}
              <Table label="Entries and what of them counts" columns={["Entry", "Counts"]}>
                {[...(l.lines ?? []), ...(l.defaults ?? []).map((d) => ({ ...d, text: `default:${d.text}` }))].map(
                  (e) => (
                    <tr key={e.text}>
                      <td>
                        <code>{e.text}</code>
                      </td>
                      <td>
                        <Effective entry={e} />
                      </td>
                    </tr>
                  ),
                )}
              </Table>
              <p className="mt-2 text-sm">
                Short: <code>{l.short}</code>
              </p>
              {l.notes?.map((n) => (
                <p key={n} className="mt-1 text-sm text-muted">
                  {n}
                </p>
              ))}
            </>
          ) : null}
        </div>
      </div>
    </section>
  );
}

export default function Calculate() {
  return (
    <>
      <Title text="Calculate" does="Try modes, masks and access entries, and see what they grant, without any host." />
      <div className="space-y-10">
        <ModePart />
        <ChangePart />
        <NewPart />
        <EntriesPart />
      </div>
    </>
  );
}
