import type { Schemas } from "../../api/client";
import { EffectMark } from "../../shared/EffectMark";

type HostEffect = Schemas["HostEffect"];
type Shift = Schemas["Shift"];

const what = (s: Shift) => (s.was && s.is ? "changed" : s.is ? "new" : "gone");
const words = { new: "would be new", gone: "would be gone", changed: "would be declared otherwise" } as const;

function Line({ shift: s }: { shift: Shift }) {
  return (
    <li className="border-t border-line py-1.5 text-sm">
      <div className="flex flex-wrap items-baseline gap-x-2">
        <strong>
          {s.count.toLocaleString()} {s.count === 1 ? s.kind : `${s.kind}s`}
        </strong>{" "}
        {words[what(s)]} <EffectMark word={s.word} />
      </div>
      <div>
        <code>{s.count === 1 ? s.example : `${s.folder === "/" ? "" : s.folder}/…`}</code>
      </div>
      <div className="text-muted">
        {s.aspect} <code>{s.found}</code>
        {s.was ? (
          <>
            , declared now <code>{s.was}</code> ({s.old_rule})
          </>
        ) : null}
        {s.is ? (
          <>
            , then <code>{s.is}</code> ({s.new_rule})
          </>
        ) : null}
      </div>
    </li>
  );
}

function Host({ effect: h }: { effect: HostEffect }) {
  return (
    <section className="mb-4" aria-label={h.host}>
      <h3 className="font-semibold">
        {h.host}: {h.before.toLocaleString()} → {h.after.toLocaleString()} findings
      </h3>
      <p className="text-sm text-muted">
        {h.new + h.gone + h.changed === 0
          ? "Nothing would be judged otherwise."
          : `${h.new.toLocaleString()} new, ${h.gone.toLocaleString()} gone, ${h.changed.toLocaleString()} declared otherwise`}
      </p>
      <ul>
        {h.shifts?.slice(0, 100).map((s, i) => (
          <Line key={i} shift={s} />
        ))}
      </ul>
      {(h.shifts?.length ?? 0) > 100 ? (
        <p className="text-sm text-muted">and {(h.shifts.length - 100).toLocaleString()} kinds more</p>
      ) : null}
    </section>
  );
}

/** How the last snapshots would be judged, host by host. */
export function Effect({ effect }: { effect: Schemas["EditionEffect"] }) {
  return (
    <>
      {effect.hosts?.map((h) => (
        <Host key={h.host} effect={h} />
      ))}
      {effect.unseen?.length ? (
        <p className="text-sm text-muted">No snapshot yet, so nothing can be said of: {effect.unseen.join(", ")}.</p>
      ) : null}
      {effect.including?.length ? (
        <p className="text-sm">
          Included by the baselines of <strong>{effect.including.join(", ")}</strong>: these change with it.
        </p>
      ) : null}
      {effect.hosts?.length === 0 && !effect.unseen?.length ? (
        <p className="text-sm text-muted">It applies to no host yet.</p>
      ) : null}
    </>
  );
}
