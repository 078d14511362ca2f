import { useState } from "react";
import { Link } from "react-router";
import type { Host, Person, Schemas, Seen } from "../../api/client";
import { useHosts } from "../../api/queries";
import { useInvite, useSetTags, useTags } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { FormEnd } from "../../ui/FormEnd";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Table } from "../../ui/Table";
import { Time } from "../../ui/Time";
import { Watch } from "../../shared/Watch";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Form } from "../../ui/Form";
import { DialogEnd } from "../../ui/DialogEnd";

const listOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** A code for one host, and what to do with it there. */
function Invite({ known, close }: { known?: Host; close: () => void }) {
  const invite = useInvite();
  const [name, setName] = useState(known?.name ?? "");
  const [tags, setTags] = useState(known?.tags?.join(", ") ?? "");
  const made = invite.data;
  return (
    <Modal title={known ? `Enrol ${known.name} anew` : "Add a host"} close={close}>
      {made ? (
        <>
          <p>
            On {made.host}, as root, before <Time at={made.expires} />:
          </p>
          <Command
            text={`idletally agent enrol --service ${location.origin} --authority authority.pem --code ${made.code} --root FOLDER`}
          />
          <p className="text-sm text-muted">
            The code counts once. The authority’s certificate is with the service, in its folder keys; --root says what
            the agent may look at, and can be given again.
          </p>
          <DialogEnd close={close} />
        </>
      ) : (
        <Form onSubmit={() => invite.mutate({ name: name.trim(), tags: listOf(tags) })}>
          <Field label="Name" className="block">
            <Input
              className="mt-0.5 block w-full"
              required
              value={name}
              readOnly={known !== undefined}
              spellCheck={false}
              onChange={(e) => setName(e.target.value)}
            />
          </Field>
          <Field label="Tags, by which baselines choose their hosts" className="mt-3 block">
            <Input
              className="mt-0.5 block w-full"
              value={tags}
              spellCheck={false}
              placeholder="sales, north"
              onChange={(e) => setTags(e.target.value)}
            />
          </Field>
          <FormEnd error={invite.error} close={close} submit="Make a code" disabled={invite.isPending} />
        </Form>
      )}
    </Modal>
  );
}

function TagForm({ host, had, close }: { host: string; had: Seen<Schemas["TagList"]>; close: () => void }) {
  const set = useSetTags();
  const [tags, setTags] = useState(had.value.tags?.join(", ") ?? "");
  return (
    <Form onSubmit={() => set.mutate({ name: host, tags: listOf(tags), tag: had.tag }, { onSuccess: close })}>
      <p className="text-sm">
        Baselines choose their hosts by tags: what this host is compared with may be another from now on.
      </p>
      <Field label="Tags" className="mt-3 block">
        <Input
          className="mt-0.5 block w-full"
          value={tags}
          spellCheck={false}
          onChange={(e) => setTags(e.target.value)}
        />
      </Field>
      <FormEnd error={set.error} close={close} submit="Set them" disabled={set.isPending} />
    </Form>
  );
}

function Tags({ host, close }: { host: Host; close: () => void }) {
  const { first, error } = useTags(host.name);
  return (
    <Modal title={`Tags of ${host.name}`} close={close}>
      <Note error={error} />
      {first ? <TagForm host={host.name} had={first} close={close} /> : null}
    </Modal>
  );
}

/** Which hosts there are, and how one comes. */
export function Hosts({ me, only }: { me: Person; only: string }) {
  const hosts = useHosts();
  const [doing, setDoing] = useState<{ what: "invite" | "tags"; host?: Host }>();
  const [part, setPart] = useState(only);
  const operator = may(me, "operator");
  const all = hosts.data?.items ?? [];
  const shown = all.filter((h) => !part || h.name.includes(part) || h.tags?.some((t) => t.includes(part)));
  const close = () => setDoing(undefined);
  return (
    <>
      <div className="mb-3 flex flex-wrap items-end gap-3">
        <Field label="Name or tag" className="text-sm">
          <Input
            className="mt-0.5 block w-56"
            value={part}
            spellCheck={false}
            onChange={(e) => setPart(e.target.value.trim())}
          />
        </Field>
        {operator ? (
          <Button look="strong" onClick={() => setDoing({ what: "invite" })}>
            Add a host…
          </Button>
        ) : null}
        <span className="pb-2 text-sm text-muted">
          {shown.length.toLocaleString()} of {all.length.toLocaleString()}
          {shown.length > 200 ? ", the first 200 shown" : ""}
          {hosts.data?.next ? "; more are listed by idletally host list --all" : ""}
        </span>
      </div>
      <Note error={hosts.error} />
      {hosts.data && all.length === 0 ? (
        <Note>
          No host yet. Add one here, or:
          <Command text="idletally host invite NAME --tag TAG" />
        </Note>
      ) : null}
      {shown.length > 0 ? (
        <Table
          label="Hosts"
          columns={["Host", "Tags", "Agent", "Changes by", "Watch", "Last contact", { name: "Actions", hidden: true }]}
        >
          {shown.slice(0, 200).map((h) => (
            <tr key={h.name}>
              <td>
                <Link to={`/hosts/${h.name}`}>{h.name}</Link>
              </td>
              <td>{h.tags?.join(", ")}</td>
              <td>
                {h.enrolled ? h.version : "not enrolled"}
                {h.carried ? <span className="text-sm text-muted">, by files</span> : null}
              </td>
              <td>
                {h.enrolled ? (
                  h.roster ? (
                    `roster, edition ${h.roster}`
                  ) : (
                    <span className="text-muted">the service's word</span>
                  )
                ) : null}
              </td>
              <td>
                <Watch state={h.watch} />
              </td>
              <td>
                <Time at={h.last_seen} />
              </td>
              <td className="figure whitespace-nowrap">
                {operator ? (
                  <>
                    <Button onClick={() => setDoing({ what: "tags", host: h })} aria-label={`Tags of ${h.name}`}>
                      Tags…
                    </Button>{" "}
                    <Button
                      onClick={() => setDoing({ what: "invite", host: h })}
                      aria-label={`Enrol${h.enrolled ? " anew" : ""}… ${h.name}`}
                    >
                      {h.enrolled ? "Enrol anew…" : "Enrol…"}
                    </Button>
                  </>
                ) : null}
              </td>
            </tr>
          ))}
        </Table>
      ) : null}
      {shown.length > 200 ? (
        <p className="mt-2 text-sm text-muted">The first 200 are shown; a part of the name finds the others.</p>
      ) : null}
      {doing?.what === "invite" ? <Invite known={doing.host} close={close} /> : null}
      {doing?.what === "tags" && doing.host ? <Tags host={doing.host} close={close} /> : null}
    </>
  );
}
