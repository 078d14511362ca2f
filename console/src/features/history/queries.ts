import { useInfiniteQuery } from "@tanstack/react-query";
import { api, body } from "../../api/client";
import { keys } from "../../api/keys";
import { type Past, pastQuery } from "./model";

const v1 = "/api/v1" as const;

export const useHistory = (p: Past) =>
  useInfiniteQuery({
    queryKey: keys.history(p),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      body(
        api.GET(`${v1}/history`, {
          params: { query: { ...pastQuery(p), limit: 200, ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });
