import { Button } from "../../ui/Button";
import { Checkbox } from "../../ui/Checkbox";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import type { Basket } from "./basket";
import { By } from "../../shared/By";
import { LineHead } from "./LineHead";
import { LineValue } from "./LineValue";
import type { Line as Equal } from "./model";
import { Opened } from "./Opened";
import { Origins } from "./Origins";
import { useWithdraw } from "./queries";

/** Equal findings, of one host or of several: what was found, what is declared, and what that means. */
export function Line({
  application,
  line,
  snapshotOf,
  mayWaive,
  open,
  setOpen,
  basket,
}: {
  application: string;
  line: Equal;
  snapshotOf: (report: string) => string;
  mayWaive: boolean;
  open: boolean;
  setOpen: (open: boolean) => void;
  basket?: Basket;
}) {
  const withdraw = useWithdraw();
  const kinds = line.count === 1 ? `1 ${line.kind}` : `${line.count.toLocaleString()} ${line.kind}s`;
  return (
    <div className="flex gap-3 py-3 pr-2">
      {basket ? (
        <Checkbox
          checked={line.parts.every((g) => basket.hasGroup(g))}
          onChange={(e) => basket.putGroups(line.parts, e.target.checked)}
          aria-label={`Choose ${kinds} in ${line.folder}: ${line.aspect} ${line.found}`}
        />
      ) : null}
      <div className="min-w-0 flex-1">
        <LineHead application={application} line={line} kinds={kinds} open={open} setOpen={setOpen} />
        <div className="mt-1 grid items-center gap-x-6 gap-y-1 sm:grid-cols-[5rem_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.4fr)]">
          <span className="font-semibold">{line.aspect}</span>
          <span>
            <span className="text-xs text-muted">found </span>
            <LineValue aspect={line.aspect} text={line.found} other={line.declared} />
          </span>
          <span>
            <span className="text-xs text-muted">declared </span>
            <LineValue aspect={line.aspect} text={line.declared} />
          </span>
          <span className="text-sm">{line.meaning}</span>
          {line.by ? (
            <span className="sm:col-span-3 sm:col-start-2">
              <By act={line.by} />
            </span>
          ) : (
            <Origins line={line} />
          )}
        </div>
        {line.waiver ? (
          <p className="mt-1 text-sm">
            <strong>Waived</strong> by {line.waiver.author} until <Time at={line.waiver.ends} />: {line.waiver.reason}{" "}
            {mayWaive ? (
              <Button disabled={withdraw.isPending} onClick={() => withdraw.mutate(line.waiver!.id)}>
                Withdraw
              </Button>
            ) : null}
          </p>
        ) : null}
        <Note error={withdraw.error} />
        {open ? (
          <Opened application={application} line={line} snapshotOf={snapshotOf} mayWaive={mayWaive} basket={basket} />
        ) : null}
      </div>
    </div>
  );
}
