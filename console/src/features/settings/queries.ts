import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, seen, type Schemas, type Seen } from "../../api/client";
import { makePasskey, showPasskey } from "../../shared/passkeys";
import { useChange } from "../../api/queries";
import { keys } from "../../api/keys";

const v1 = "/api/v1" as const;

/** What is there now, to be edited: it stays what was seen, whatever comes meanwhile. */
function useFirst<T>(queryKey: readonly string[], ask: () => Promise<Seen<T>>) {
  const [first, setFirst] = useState<Seen<T>>();
  const now = useQuery({ queryKey, enabled: first === undefined, staleTime: 0, queryFn: ask });
  if (first === undefined && now.data && !now.isFetching) setFirst(now.data);
  return { first, error: now.error };
}

export const useHost = (name: string) =>
  useQuery({
    queryKey: keys.hosts(name),
    queryFn: () => body(api.GET(`${v1}/hosts/{name}`, { params: { path: { name } } })),
  });

export const useInvite = () => useChange((input: Schemas["NewHost"]) => body(api.POST(`${v1}/hosts`, { body: input })));
export const useTags = (name: string) =>
  useFirst(["hosts", name, "tags"], () => seen(api.GET(`${v1}/hosts/{name}/tags`, { params: { path: { name } } })));
export const useSetTags = () =>
  useChange(({ name, tags, tag }: { name: string; tags: string[]; tag: string }) =>
    body(
      api.PUT(`${v1}/hosts/{name}/tags`, { params: { path: { name }, header: { "If-Match": tag } }, body: { tags } }),
    ),
  );

export const usePeople = (enabled: boolean) =>
  useQuery({ queryKey: keys.people(), enabled, queryFn: () => body(api.GET(`${v1}/people`)) });
export const useAddPerson = () =>
  useChange((input: Schemas["NewPerson"]) => body(api.POST(`${v1}/people`, { body: input })));
export const useRoles = (name: string) =>
  useFirst(["people", name, "roles"], () => seen(api.GET(`${v1}/people/{name}/roles`, { params: { path: { name } } })));
export const useSetRoles = () =>
  useChange(({ name, roles, tag }: { name: string; roles: string[]; tag: string }) =>
    body(
      api.PUT(`${v1}/people/{name}/roles`, {
        params: { path: { name }, header: { "If-Match": tag } },
        body: { roles },
      }),
    ),
  );
export const useResetPassword = () =>
  useChange((name: string) => body(api.POST(`${v1}/people/{name}/password`, { params: { path: { name } } })));
export const useRemovePerson = () =>
  useChange((name: string) => body(api.DELETE(`${v1}/people/{name}`, { params: { path: { name } } })));

export const useRequests = () =>
  useQuery({ queryKey: keys.requests(), queryFn: () => body(api.GET(`${v1}/requests`)), refetchInterval: 15_000 });
export const useAgree = (id: string) =>
  useChange((input: Schemas["Agreement"]) =>
    body(api.POST(`${v1}/requests/{id}/agree`, { params: { path: { id } }, body: input })),
  );
export const useDecline = (id: string) =>
  useChange(() => body(api.POST(`${v1}/requests/{id}/decline`, { params: { path: { id } } })));
export const useAgreement = (id: string) =>
  useMutation({ mutationFn: () => body(api.POST(`${v1}/requests/{id}/statement`, { params: { path: { id } } })) });
export const useRoster = () => useQuery({ queryKey: keys.roster(), queryFn: () => body(api.GET(`${v1}/roster`)) });
export const useSigningKeys = () =>
  useQuery({ queryKey: keys.signingKeys(), queryFn: () => body(api.GET(`${v1}/signing-keys`)) });
export const useAddSigningKey = () =>
  useChange((input: Schemas["NewSigningKey"]) => body(api.POST(`${v1}/me/signing-keys`, { body: input })));
export const useRemoveSigningKey = () =>
  useChange((id: string) => body(api.DELETE(`${v1}/me/signing-keys/{id}`, { params: { path: { id } } })));
export const useProposeRoster = () =>
  useChange((document: string) => body(api.POST(`${v1}/roster`, { body: { document } })));
export const useWithdrawRoster = () =>
  useChange((digest: string) => body(api.DELETE(`${v1}/roster/{digest}`, { params: { path: { digest } } })));
/** Asks for the text that somebody is to sign of an edition. It is asked for once: what is read is what is signed. */
export const useRosterStatement = () =>
  useMutation({
    mutationFn: (digest: string) => body(api.GET(`${v1}/roster/{digest}/statement`, { params: { path: { digest } } })),
  });
export const useSignRoster = () =>
  useChange(({ digest, signed }: { digest: string; signed: Schemas["Signed"] }) =>
    body(api.POST(`${v1}/roster/{digest}/sign`, { params: { path: { digest } }, body: { signed } })),
  );

export const useStorage = () => useQuery({ queryKey: keys.storage(), queryFn: () => body(api.GET(`${v1}/storage`)) });
export const useTidy = () => useChange(() => body(api.POST(`${v1}/storage/tidy`)));
export const useReviewers = (name: string) =>
  useQuery({
    queryKey: keys.applications(name, "review"),
    enabled: name !== "",
    staleTime: 0,
    queryFn: () => seen(api.GET(`${v1}/applications/{name}/review`, { params: { path: { name } } })),
  });
export const useSetReviewers = () =>
  useChange(({ name, reviewers, editions, tag }: Schemas["ReviewRule"] & { name: string; tag: string }) =>
    body(
      api.PUT(`${v1}/applications/{name}/review`, {
        params: { path: { name }, header: { "If-Match": tag } },
        body: { reviewers, ...(editions === undefined ? {} : { editions }) },
      }),
    ),
  );

export const useTokens = () => useQuery({ queryKey: keys.tokens(), queryFn: () => body(api.GET(`${v1}/tokens`)) });
export const useAddToken = () =>
  useChange((input: Schemas["NewToken"]) => body(api.POST(`${v1}/tokens`, { body: input })));
export const useRemoveToken = () =>
  useChange((id: string) => body(api.DELETE(`${v1}/tokens/{id}`, { params: { path: { id } } })));

export const useCheckHistory = () => useMutation({ mutationFn: () => body(api.GET(`${v1}/history/check`)) });

export const useSchedules = () =>
  useQuery({ queryKey: keys.schedules(), queryFn: () => body(api.GET(`${v1}/schedules`)), refetchInterval: 15_000 });
export const useAddSchedule = () =>
  useChange((input: Schemas["NewSchedule"]) => body(api.POST(`${v1}/schedules`, { body: input })));
export const useRemoveSchedule = () =>
  useChange((id: string) => body(api.DELETE(`${v1}/schedules/{id}`, { params: { path: { id } } })));

export const useHooks = (enabled: boolean) =>
  useQuery({ queryKey: keys.hooks(), enabled, queryFn: () => body(api.GET(`${v1}/hooks`)), refetchInterval: 15_000 });
export const useAddHook = () =>
  useChange((input: Schemas["NewHook"]) => body(api.POST(`${v1}/hooks`, { body: input })));
export const useTryHook = () =>
  useChange((id: string) => body(api.POST(`${v1}/hooks/{id}/try`, { params: { path: { id } } })));
export const useRemoveHook = () =>
  useChange((id: string) => body(api.DELETE(`${v1}/hooks/{id}`, { params: { path: { id } } })));

export const useNews = () =>
  useQuery({ queryKey: keys.news(), queryFn: () => body(api.GET(`${v1}/me/news`)), refetchInterval: 60_000 });
export const useSeeNews = () => useChange((until: string) => body(api.POST(`${v1}/me/news/seen`, { body: { until } })));
export const useSessions = () =>
  useQuery({ queryKey: keys.sessions(), queryFn: () => body(api.GET(`${v1}/me/sessions`)) });
export const useEndSession = () =>
  useChange((id: string) =>
    id
      ? body(api.DELETE(`${v1}/me/sessions/{id}`, { params: { path: { id } } }))
      : body(api.DELETE(`${v1}/me/sessions`)),
  );
export const useChangePassword = () =>
  useChange((input: Schemas["NewPassword"]) => body(api.POST(`${v1}/me/password`, { body: input })));
export const usePasskeys = () =>
  useQuery({ queryKey: keys.passkeys(), queryFn: () => body(api.GET(`${v1}/me/passkeys`)) });
export const useAddPasskey = () =>
  useChange(async (name: string) => {
    const asked = await body(api.POST(`${v1}/me/passkeys/begin`));
    return body(api.POST(`${v1}/me/passkeys`, { body: { name, ...(await makePasskey(asked)) } }));
  });
export const useRemovePasskey = () =>
  useChange((id: string) => body(api.DELETE(`${v1}/me/passkeys/{id}`, { params: { path: { id } } })));
export const useConfirm = () =>
  useMutation({ mutationFn: (input: Schemas["Confirm"]) => body(api.POST(`${v1}/me/confirm`, { body: input })) });
export const useConfirmByPasskey = () =>
  useMutation({
    mutationFn: async () =>
      body(
        api.POST(`${v1}/me/confirm`, {
          body: { passkey: await showPasskey(await body(api.POST(`${v1}/me/passkeys/ask`))) },
        }),
      ),
  });
export const usePolicy = () => useFirst(["policy"], () => seen(api.GET(`${v1}/policy`)));
export const useSetPolicy = () =>
  useChange(({ policy, tag }: { policy: Schemas["Policy"]; tag: string }) =>
    seen(api.PUT(`${v1}/policy`, { params: { header: { "If-Match": tag } }, body: policy })),
  );
export const useKeepPolicy = () => useChange(() => seen(api.DELETE(`${v1}/policy/next`)));
export const useProposeSecond = () => useMutation({ mutationFn: () => body(api.POST(`${v1}/me/second`)) });
export const useConfirmSecond = () => useChange((code: string) => body(api.PUT(`${v1}/me/second`, { body: { code } })));
export const useRemoveSecond = () =>
  useChange((code: string) => body(api.POST(`${v1}/me/second/remove`, { body: { code } })));
