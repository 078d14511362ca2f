import { useQuery } from "@tanstack/react-query";
import { api, body } from "../../api/client";
import { keys } from "../../api/keys";

const v1 = "/api/v1" as const;

/** How everything stands; of one host, each application's cell of it. */
export const useOverview = (host = "") =>
  useQuery({
    queryKey: keys.overview(host),
    queryFn: () => body(api.GET(`${v1}/overview`, { params: { query: host ? { host } : {} } })),
    refetchInterval: 30_000,
  });
