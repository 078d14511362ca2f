import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, body } from "../../api/client";
import { keys } from "../../api/keys";

const v1 = "/api/v1/calculate" as const;

// What is computed from the same input stays the same.
const pure = { staleTime: Infinity, placeholderData: keepPreviousData };

export const useMode = (mode: string, limits: string) =>
  useQuery({
    ...pure,
    queryKey: keys.mode(mode, limits),
    enabled: mode !== "",
    queryFn: () => body(api.GET(`${v1}/mode`, { params: { query: { mode, ...(limits ? { limits } : {}) } } })),
  });

export const useModeChange = (mode: string, change: string, folder: boolean, umask: string) =>
  useQuery({
    ...pure,
    queryKey: keys.change(mode, change, folder, umask),
    enabled: mode !== "" && change !== "" && umask !== "",
    queryFn: () => body(api.GET(`${v1}/mode`, { params: { query: { mode, change, folder, umask } } })),
  });

export const useNew = (inside: string, umask: string, defaults: string) =>
  useQuery({
    ...pure,
    queryKey: keys.new(inside, umask, defaults),
    enabled: inside !== "" && umask !== "",
    queryFn: () =>
      body(api.GET(`${v1}/new`, { params: { query: { in: inside, umask, ...(defaults ? { defaults } : {}) } } })),
  });

export const useEntries = (entries: string, chmod: string) =>
  useQuery({
    ...pure,
    queryKey: keys.entries(entries, chmod),
    enabled: entries.trim() !== "",
    queryFn: () => body(api.GET(`${v1}/entries`, { params: { query: { entries, ...(chmod ? { chmod } : {}) } } })),
  });
