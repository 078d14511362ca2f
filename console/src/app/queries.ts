import { useQuery } from "@tanstack/react-query";
import { api, body } from "../api/client";
import { keys } from "../api/keys";

const v1 = "/api/v1" as const;

export const useSearch = (text: string, enabled = true) =>
  useQuery({
    queryKey: keys.search(text),
    enabled: enabled && text.trim() !== "",
    staleTime: 10_000,
    placeholderData: (before) => before,
    queryFn: () => body(api.GET(`${v1}/search`, { params: { query: { q: text.trim() } } })),
  });
