import { useState } from "react";
import { useDerive } from "./queries";
import { useHosts } from "../../api/queries";
import { useSnapshotsOf, useTakeSnapshot } from "../snapshots/queries";
import { Button } from "../../ui/Button";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Input } from "../../ui/Input";
import { Field } from "../../ui/Field";
import { Checkbox } from "../../ui/Checkbox";

/** Has a draft written from hosts that are right. */
export function Derive({
  application: given,
  take,
  close,
}: {
  application: string;
  take: (text: string) => void;
  close: () => void;
}) {
  const [name, setName] = useState(given);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [root, setRoot] = useState("/srv/");
  const hosts = useHosts();
  const snapshots = useSnapshotsOf({ application: name }, 50);
  const look = useTakeSnapshot();
  const derive = useDerive();
  const last = (host: string) => snapshots.data?.items?.find((s) => s.host === host && s.state !== "failed");
  return (
    <Modal title="A draft from hosts that are right" close={close}>
      <p className="mb-3 text-sm">
        It declares what is there with few rules and exceptions, and has no findings on the hosts that it comes from. It
        replaces the text in the editor; nothing is kept before you save it.
      </p>
      {given ? null : (
        <Field label="Application" className="mb-3 block">
          <Input
            className="block w-full"
            value={name}
            onChange={(e) => setName(e.target.value)}
            placeholder="ticketing"
          />
        </Field>
      )}
      <fieldset className="mb-3">
        <legend className="mb-1">Hosts</legend>
        <ul>
          {hosts.data?.items?.map((h) => {
            const s = last(h.name);
            return (
              <li key={h.name} className="flex min-h-9 items-center gap-2">
                <Checkbox
                  disabled={s?.state !== "ready"}
                  checked={chosen.has(h.name)}
                  onChange={(e) => {
                    const next = new Set(chosen);
                    if (e.target.checked) next.add(h.name);
                    else next.delete(h.name);
                    setChosen(next);
                  }}
                  className="flex flex-1 items-center gap-2"
                >
                  {h.name}{" "}
                  <span className="text-sm text-muted">
                    {s?.state === "ready" ? (
                      <>
                        as of <Time at={s.taken} />
                      </>
                    ) : s ? (
                      "is looked at"
                    ) : name ? (
                      "never looked at for this"
                    ) : (
                      ""
                    )}
                  </span>
                </Checkbox>
                {s || !name ? null : (
                  <Button
                    disabled={look.isPending}
                    onClick={() => look.mutate({ application: name, host: h.name, roots: [root] })}
                  >
                    Look at {root}
                  </Button>
                )}
              </li>
            );
          })}
        </ul>
      </fieldset>
      {given ? null : (
        <Field label="Folder to look at" className="mb-3 block">
          <Input className="mono block w-full" value={root} onChange={(e) => setRoot(e.target.value)} />
        </Field>
      )}
      <Note error={hosts.error ?? look.error ?? derive.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={close}>Not now</Button>
        <Button
          look="strong"
          disabled={chosen.size === 0 || derive.isPending}
          onClick={() =>
            derive.mutate(
              { application: name, hosts: [...chosen] },
              {
                onSuccess: (d) => {
                  take(d.text);
                  close();
                },
              },
            )
          }
        >
          {derive.isPending ? "Drafting …" : "Draft it"}
        </Button>
      </div>
    </Modal>
  );
}
