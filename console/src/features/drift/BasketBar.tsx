import { useState } from "react";
import type { Report } from "../../api/client";
import { Button } from "../../ui/Button";
import type { Basket } from "./basket";
import { DraftPlan } from "./DraftPlan";

/** What is in the basket, always in sight, and the way to a plan of it. */
export function BasketBar({
  application,
  basket,
  reports,
}: {
  application: string;
  basket: Basket;
  reports: readonly Report[];
}) {
  const [drafting, setDrafting] = useState(false);
  if (basket.findings === 0) return null;
  const parts = [
    basket.groups.length
      ? `${basket.groups.length.toLocaleString()} group${basket.groups.length === 1 ? "" : "s"}`
      : "",
    basket.singles.length
      ? `${basket.singles.length.toLocaleString()} by ${basket.singles.length === 1 ? "itself" : "themselves"}`
      : "",
  ].filter(Boolean);
  return (
    <div
      role="region"
      aria-label="Basket"
      className="sticky bottom-0 z-10 mt-4 flex flex-wrap items-center gap-x-4 gap-y-2 border-t-2 border-ink bg-paper py-3"
    >
      <span>
        <strong>{basket.findings === 1 ? "1 finding" : `${basket.findings.toLocaleString()} findings`}</strong> in the
        basket: {parts.join(", ")}
      </span>
      <span className="ml-auto flex gap-2">
        <Button onClick={basket.empty}>Empty it</Button>
        <Button look="strong" onClick={() => setDrafting(true)}>
          Draft a plan…
        </Button>
      </span>
      {drafting ? (
        <DraftPlan application={application} basket={basket} reports={reports} close={() => setDrafting(false)} />
      ) : null}
    </div>
  );
}
