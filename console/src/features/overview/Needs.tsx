import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Time } from "../../ui/Time";

type Need = Schemas["Need"];

const kinds: Record<Need["kind"], { says: string; strong?: boolean; at?: string; to: (n: Need) => string }> = {
  history: { says: "history", strong: true, at: "since", to: () => "/history" },
  run: { says: "halted run", strong: true, at: "since", to: (n) => `/runs/${n.subject}` },
  grave: { says: "grave", strong: true, to: (n) => `/drift/${n.subject}` },
  review: { says: "to review", at: "drafted", to: (n) => `/plans/${n.subject}` },
  approved: { says: "to run", at: "good until", to: (n) => `/plans/${n.subject}` },
  waiver: { says: "ends soon", at: "accepted until", to: (n) => `/drift/${n.subject}?tab=waivers` },
  failed: { says: "look failed", to: (n) => `/drift/${n.subject}` },
  old: { says: "too long ago", to: (n) => `/drift/${n.subject}` },
  behind: { says: "not compared", to: (n) => `/drift/${n.subject}` },
  never: { says: "not looked at", to: (n) => `/drift/${n.subject}` },
  host: { says: "silent host", at: "last contact", to: (n) => (n.subject ? `/hosts/${n.subject}` : "/settings") },
};

/** What waits for a person, the gravest first. */
export function Needs({ needs, more }: { needs: readonly Need[]; more: number }) {
  if (needs.length === 0)
    return (
      <p className="text-muted">
        Nothing: no plan waits, no run stands still, nothing grave is open, every host calls, and was looked at.
      </p>
    );
  return (
    <ul>
      {needs.map((n, i) => {
        const k = kinds[n.kind];
        return (
          <li
            key={`${n.kind}${n.subject}${i}`}
            className="grid grid-cols-[7rem_minmax(0,1fr)] items-baseline gap-x-3 border-b border-line py-1.5"
          >
            <span
              className={`rounded border px-1.5 py-0.5 text-center text-[0.8rem] ${k.strong ? "border-ink font-semibold" : "border-line"}`}
            >
              {k.says}
            </span>
            <span className="min-w-0">
              <Link to={k.to(n)}>{n.kind === "waiver" ? <code>{n.title}</code> : n.title}</Link>
              <span className="text-sm text-muted">
                {" "}
                {n.count ? `${n.count.toLocaleString()} ` : ""}
                {n.detail}
                {n.application && n.application !== n.title ? ` · ${n.application}` : ""}
                {n.at && k.at ? (
                  <>
                    {" "}
                    · {k.at} <Time at={n.at} />
                  </>
                ) : null}
              </span>
            </span>
          </li>
        );
      })}
      {more > 0 ? <li className="py-1.5 text-sm text-muted">and {more.toLocaleString()} more</li> : null}
    </ul>
  );
}
