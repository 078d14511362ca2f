import { useEffect, useState } from "react";
import { lately, type Looked, type Where } from "./model";

function kept(place: string): Looked[] {
  try {
    const list: unknown = JSON.parse(sessionStorage.getItem(place) ?? "[]");
    return Array.isArray(list) ? (list as Looked[]).filter((x) => typeof x.path === "string") : [];
  } catch {
    return [];
  }
}

/** What somebody looked at in this window before; what is looked at now comes to it. It ends with the window. */
export function useLately({ host, snapshot }: Where, path: string, who: string): readonly Looked[] {
  const place = `looked at lately by ${who}`; // whoever signs in next in the window sees their own
  const [before] = useState(() => kept(place));
  useEffect(() => {
    if (path === "" || (!host && !snapshot)) return;
    const at: Looked = { ...(host ? { host } : {}), ...(snapshot ? { snapshot } : {}), path };
    sessionStorage.setItem(place, JSON.stringify(lately(kept(place), at)));
  }, [host, snapshot, path, place]);
  return before;
}
