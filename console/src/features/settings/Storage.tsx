import type { Person } from "../../api/client";
import { useStorage, useTidy } from "./queries";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";

const size = new Intl.NumberFormat(undefined, { maximumFractionDigits: 1 });

/** How much is stored, and for how long. */
export function Storage({ me }: { me: Person }) {
  const storage = useStorage();
  const tidy = useTidy();
  const s = storage.data;
  return (
    <>
      <Note error={storage.error ?? tidy.error} />
      {s ? (
        <dl className="grid w-fit grid-cols-[auto_auto] gap-x-6 gap-y-1">
          <dt className="text-muted">Snapshots</dt>
          <dd className="text-right tabular-nums">{s.snapshots.toLocaleString()}</dd>
          <dt className="text-muted">Reports</dt>
          <dd className="text-right tabular-nums">{s.reports.toLocaleString()}</dd>
          <dt className="text-muted">Folders, each stored once</dt>
          <dd className="text-right tabular-nums">{s.nodes.toLocaleString()}</dd>
          <dt className="text-muted">Of these, compressed</dt>
          <dd className="text-right tabular-nums">{size.format(s.bytes / 1024 / 1024)} MiB</dd>
        </dl>
      ) : null}
      <p className="mt-4 max-w-prose text-sm">
        How long snapshots are kept the service is told when it starts: all of some days, then one a day, then one a
        week (--keep-all, --keep-daily, --keep-weekly). What nothing leads to any more is taken away once an hour.
      </p>
      {may(me, "admin") ? (
        <div className="mt-3 flex items-center gap-3">
          <Button disabled={tidy.isPending} onClick={() => tidy.mutate(undefined)}>
            Tidy up now
          </Button>
          {tidy.data ? (
            <span role="status" className="text-sm">
              {tidy.data.snapshots.toLocaleString()} snapshots and {tidy.data.nodes.toLocaleString()} folders are gone.
            </span>
          ) : null}
        </div>
      ) : null}
      <Command text="idletally storage show" />
    </>
  );
}
