import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "../../api/client";
import { showPasskey } from "../../shared/passkeys";
import { keys } from "../../api/keys";
import { useChange } from "../../api/queries";

const v1 = "/api/v1" as const;

export const useWays = () =>
  useQuery({ queryKey: keys.ways(), queryFn: () => body(api.GET("/api/v1/sign-in/ways")), staleTime: Infinity });

/** How well a new password withstands who guesses; what was typed is not kept once nobody shows it. */
export const useStrength = (name: string, password: string) =>
  useQuery({
    queryKey: keys.strength(name, password),
    queryFn: () => body(api.POST(`${v1}/calculate/password`, { body: { name, password } })),
    enabled: password !== "",
    gcTime: 0,
    retry: false,
    placeholderData: keepPreviousData,
  });

export const useSignIn = () =>
  useChange((input: Schemas["SignIn"]) => body(api.POST(`${v1}/sign-in`, { body: input })));

export const useSignInByPasskey = () =>
  useChange(async (input: { name?: string; password?: string }) => {
    const passkey = await showPasskey(await body(api.POST(`${v1}/sign-in/passkey`, { body: input })));
    return body(api.POST(`${v1}/sign-in`, { body: { name: "", password: "", ...input, passkey } }));
  });

export const useSignOut = () => useChange(() => body(api.POST(`${v1}/sign-out`)));
