import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, type ReactNode } from "react";
import { useRowKeys } from "./useRowKeys";

type More = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/**
 * A list of any length that draws only what is in sight, and asks for more where it ends. One of at most `flow` items
 * is drawn whole, in the page. Up and Down, Home and End lead from row to row.
 */
export function LongList<T>({
  label,
  items,
  keyOf,
  row,
  more,
  estimate = 46,
  className = "h-[40vh]",
  flow = 0,
}: {
  label: string;
  items: readonly T[];
  keyOf: (item: T) => string;
  row: (item: T, index: number) => ReactNode;
  more?: More; // a list that is whole has none
  estimate?: number;
  className?: string;
  flow?: number;
}) {
  const box = useRef<HTMLDivElement>(null);
  const whole = items.length <= flow;
  const rows = useVirtualizer({
    count: whole ? 0 : items.length,
    getScrollElement: () => box.current,
    estimateSize: () => estimate,
    overscan: 12,
  });
  const shown = rows.getVirtualItems();
  const { hasNextPage = false, isFetchingNextPage = false, fetchNextPage } = more ?? {};
  const end = whole ? items.length : (shown.at(-1)?.index ?? 0);
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && end > items.length - 50) void fetchNextPage?.();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage, end, items.length]);

  const keys = useRowKeys(items.length, whole ? undefined : (i) => rows.scrollToIndex(i));

  if (whole)
    return (
      <ul ref={keys} aria-label={label}>
        {items.map((item, i) => (
          <li key={keyOf(item)} data-index={i} className="border-b border-line">
            {row(item, i)}
          </li>
        ))}
      </ul>
    );
  return (
    <div
      ref={box}
      className={`overflow-auto border-y border-line ${className}`}
      tabIndex={0}
      role="region"
      aria-label={label}
    >
      <ul ref={keys} className="relative" style={{ height: rows.getTotalSize() }}>
        {shown.map((r) => (
          <li
            key={keyOf(items[r.index]!)}
            ref={rows.measureElement}
            data-index={r.index}
            className="absolute inset-x-0 top-0 border-b border-line"
            style={{ transform: `translateY(${r.start}px)` }}
          >
            {row(items[r.index]!, r.index)}
          </li>
        ))}
      </ul>
    </div>
  );
}
