import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, type ReactNode } from "react";

type More = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/** A list of any length that draws only what is in sight, and asks for more where it ends. */
export function LongList<T>({
  label,
  items,
  keyOf,
  row,
  more,
  estimate = 46,
  className = "h-[40vh]",
}: {
  label: string;
  items: readonly T[];
  keyOf: (item: T) => string;
  row: (item: T, index: number) => ReactNode;
  more?: More; // a list that is whole has none
  estimate?: number;
  className?: string;
}) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => box.current,
    estimateSize: () => estimate,
    overscan: 12,
  });
  const shown = rows.getVirtualItems();
  const { hasNextPage = false, isFetchingNextPage = false, fetchNextPage } = more ?? {};
  const end = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && end > items.length - 50) void fetchNextPage?.();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage, end, items.length]);
  return (
    <div
      ref={box}
      className={`overflow-auto border-y border-line ${className}`}
      tabIndex={0}
      role="region"
      aria-label={label}
    >
      <ul className="relative" style={{ height: rows.getTotalSize() }}>
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
