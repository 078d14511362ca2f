import { Link } from "react-router";
import { EffectMark } from "../../shared/EffectMark";
import { LineAge } from "./LineAge";
import { LineHosts } from "./LineHosts";
import type { Line } from "./model";

/** What a line is about, and what opens and closes it: a press, or the right and left key. */
export function LineHead({
  application,
  line,
  kinds,
  open,
  setOpen,
}: {
  application: string;
  line: Line;
  kinds: string;
  open: boolean;
  setOpen: (open: boolean) => void;
}) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
      <EffectMark word={line.word} />
      <button
        type="button"
        data-main
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        onKeyDown={(e) => {
          if (e.key === "ArrowRight" && !open) setOpen(true);
          if (e.key === "ArrowLeft" && open) setOpen(false);
        }}
        className="cursor-pointer text-left font-semibold hover:underline"
      >
        {kinds} <span aria-hidden="true">{open ? "▾" : "▸"}</span>
      </button>
      <code className="min-w-0">{line.count === 1 ? line.example : `${line.folder}/…`}</code>
      <span className="ml-auto text-sm text-muted">
        <LineHosts application={application} line={line} /> · rule{" "}
        <Link to={`/baselines/${application}/edit`}>{line.rule}</Link> · {line.severity}
        <LineAge group={line} />
      </span>
    </div>
  );
}
