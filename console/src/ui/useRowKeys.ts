import { useCallback, useEffect, useRef, type RefCallback } from "react";

const controls = "a, button, input, select, textarea, summary";

/** The control in a row that is like one in another row: a box to tick, or the row's main control, or its first. */
function alike(row: Element, to: Element): HTMLElement | null {
  const box = to.matches("input[type=checkbox]");
  return row.querySelector<HTMLElement>(box ? "input[type=checkbox]" : "[data-main]") ?? row.querySelector(controls);
}

/** Where a key leads from a row, of so many; undefined where it is not for the list. */
function step(key: string, at: number, count: number): number | undefined {
  switch (key) {
    case "ArrowDown":
      return Math.min(at + 1, count - 1);
    case "ArrowUp":
      return Math.max(at - 1, 0);
    case "Home":
      return 0;
    case "End":
      return count - 1;
    default:
      return undefined;
  }
}

/** Focuses in a row what is like a control of another one; past what has none, such as headings. */
function focusIn(list: Element, to: number, from: Element, direction: number): boolean {
  for (let i = to; ; i += direction) {
    const row = list.querySelector(`:scope > [data-index="${i}"]`);
    const control = row ? alike(row, from) : null;
    control?.focus();
    if (control || !row) return control !== null;
  }
}

/**
 * Returns what a list of so many rows takes as its ref for Up and Down, Home and End to lead from row to row. Rows have
 * their number as data-index; show brings one into sight that is not drawn.
 */
export function useRowKeys(count: number, show?: (row: number) => void): RefCallback<HTMLElement> {
  const latest = useRef({ count, show });
  useEffect(() => {
    latest.current = { count, show };
  });
  return useCallback((list: HTMLElement | null) => {
    if (!list) return;
    const onKey = (e: KeyboardEvent) => {
      const from = e.target as Element;
      if (e.defaultPrevented || from.matches("select, textarea, input:not([type=checkbox])")) return;
      const row = [...list.children].find((li) => li.contains(from)) as HTMLElement | undefined;
      const was = Number(row?.dataset.index);
      const to = row ? step(e.key, was, latest.current.count) : undefined;
      if (to === undefined || to === was) return;
      e.preventDefault();
      const direction = e.key === "ArrowUp" || e.key === "End" ? -1 : 1;
      const go = (tries: number) => {
        if (focusIn(list, to, from, direction) || tries === 0) return;
        latest.current.show?.(to);
        requestAnimationFrame(() => go(tries - 1));
      };
      go(5);
    };
    list.addEventListener("keydown", onKey);
    return () => list.removeEventListener("keydown", onKey);
  }, []);
}
