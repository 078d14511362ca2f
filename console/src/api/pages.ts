/** A list, as far as it was read: how many there are in all, and where it goes on if that is not all. */
export interface Listed<T> {
  items: T[];
  total: number;
  next: string;
}

/** Reads a list page by page, up to so many items. */
export async function whole<T>(
  ask: (after: string) => Promise<{ items: T[]; next?: string; total?: number }>,
  most = 5000,
): Promise<Listed<T>> {
  const items: T[] = [];
  let next = "";
  let total: number | undefined;
  do {
    const page = await ask(next);
    items.push(...page.items);
    total ??= page.total;
    next = page.next ?? "";
  } while (next !== "" && items.length < most);
  return { items, next, total: total ?? items.length };
}
