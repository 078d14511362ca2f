import { useEffect, useState } from "react";
import { lately, type Looked, type Where } from "./model";

const place = "looked at lately";

function kept(): Looked[] {
  try {
    const list: unknown = JSON.parse(sessionStorage.getItem(place) ?? "[]");
    return Array.isArray(list) ? (list as Looked[]).filter((x) => typeof x.path === "string") : [];
  } catch {
    return [];
  }
}

/** What was looked at in this window before; what is looked at now comes to it. It ends with the window. */
export function useLately({ host, snapshot }: Where, path: string): readonly Looked[] {
  const [before] = useState(kept);
  useEffect(() => {
    if (path === "" || (!host && !snapshot)) return;
    const at: Looked = { ...(host ? { host } : {}), ...(snapshot ? { snapshot } : {}), path };
    sessionStorage.setItem(place, JSON.stringify(lately(kept(), at)));
  }, [host, snapshot, path]);
  return before;
}
