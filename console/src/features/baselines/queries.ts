import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { whole } from "../../api/pages";
import { useChange } from "../../api/queries";
import { keys } from "../../api/keys";

const v1 = "/api/v1" as const;

export const useEditions = (name: string) =>
  useQuery({
    queryKey: keys.editions(name),
    enabled: name !== "",
    queryFn: () =>
      whole((after) =>
        body(
          api.GET(`${v1}/baselines/{name}`, {
            params: { path: { name }, query: { limit: 1000, ...(after ? { after: Number(after) } : {}) } },
          }),
        ),
      ),
  });

export const useEdition = (name: string, number: number | undefined) =>
  useQuery({
    queryKey: keys.edition(name, number),
    enabled: name !== "" && number !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      body(api.GET(`${v1}/baselines/{name}/{number}`, { params: { path: { name, number: number ?? 0 } } })),
  });

export const useComparison = (name: string, number: number | undefined, against: number) =>
  useQuery({
    queryKey: keys.comparison(name, number, against),
    enabled: number !== undefined,
    queryFn: () =>
      body(
        api.GET(`${v1}/baselines/{name}/{number}/effect`, {
          params: { path: { name, number: number ?? 0 }, query: { against } },
        }),
      ),
  });

/** What is wrong with a text, and what is probably not meant. */
export const useCheck = (text: string) =>
  useQuery({
    queryKey: keys.check(text),
    enabled: text.trim() !== "",
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    queryFn: () => body(api.POST(`${v1}/baselines/check`, { body: { text } })),
  });

/** How a text would judge the last snapshots. */
export const usePreview = (text: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.preview(text),
    enabled: enabled && text.trim() !== "",
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    retry: false,
    queryFn: () => body(api.POST(`${v1}/baselines/effect`, { body: { text } })),
  });

export const useExplanation = (name: string, number: number, host: string, path: string) =>
  useQuery({
    queryKey: keys.explanation(name, number, host, path),
    enabled: host !== "" && path !== "",
    retry: false,
    queryFn: () =>
      body(
        api.GET(`${v1}/baselines/{name}/{number}/explain`, {
          params: { path: { name, number }, query: { host, path } },
        }),
      ),
  });

export const useSchema = () =>
  useQuery({
    queryKey: keys.schema(),
    staleTime: Infinity,
    queryFn: async () => {
      const answer = await fetch("/api/schemas/baseline-1.json");
      if (!answer.ok) throw new Error(`The language's schema is not to be had: the service answered ${answer.status}.`);
      return (await answer.json()) as object;
    },
  });

/** Accounts and groups of the host that a snapshot is of. */
export const useNames = (snapshot: string) =>
  useQuery({
    queryKey: keys.names(snapshot),
    enabled: snapshot !== "",
    queryFn: () => body(api.GET(`${v1}/accounts`, { params: { query: { snapshot } } })),
  });

export const listing = (snapshot: string, path: string) =>
  body(api.GET(`${v1}/paths`, { params: { query: { snapshot, path, limit: 500 } } }));

export const useUpload = () =>
  useChange((input: Schemas["NewEdition"]) => body(api.POST(`${v1}/baselines`, { body: input })));
export const usePublish = (name: string) =>
  useChange((number: number) =>
    body(api.POST(`${v1}/baselines/{name}/{number}/publish`, { params: { path: { name, number } } })),
  );
export const useDerive = () =>
  useChange((input: Schemas["NewDerivation"]) => body(api.POST(`${v1}/baselines/derive`, { body: input })));
