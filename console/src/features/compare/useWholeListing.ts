import { useEffect } from "react";
import { useListing } from "../look/queries";
import type { Side } from "./model";

/** So many names of a folder are looked at, at the most. */
export const most = 20_000;

/** All that is in a folder, page after page, as far as there are not too many. */
export function useWholeListing({ path, ...where }: Side) {
  const list = useListing(where, path, "", true);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const full = hasNextPage && items.length >= most;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && !full) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, full, fetchNextPage]);
  return { items, error: list.error, full, whole: list.isSuccess && !hasNextPage };
}
