import { Button } from "./Button";

/** Leads on where a list does not end yet. */
export function More({
  of,
}: {
  of: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
}) {
  if (!of.hasNextPage) return null;
  return (
    <p className="mt-3">
      <Button disabled={of.isFetchingNextPage} onClick={() => void of.fetchNextPage()}>
        Older ones
      </Button>
    </p>
  );
}
