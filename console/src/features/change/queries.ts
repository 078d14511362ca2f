import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";

const v1 = "/api/v1" as const;

/** What changes would come to; the last answer stands until the next one comes. */
export const useForeseen = (ask: Schemas["Foresee"], enabled: boolean) =>
  useQuery({
    queryKey: keys.foreseen(ask),
    enabled,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: ({ signal }) => body(api.POST(`${v1}/plans/foreseen`, { body: ask, signal })),
  });
