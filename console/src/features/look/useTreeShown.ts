import { useState } from "react";

const place = "tree of folders";

/** Whether somebody has the tree of folders beside listings; it stays so in this browser. */
export function useTreeShown(): [boolean, (on: boolean) => void] {
  const [shown, setShown] = useState(() => localStorage.getItem(place) !== "hidden");
  return [
    shown,
    (on) => {
      localStorage.setItem(place, on ? "shown" : "hidden");
      setShown(on);
    },
  ];
}
