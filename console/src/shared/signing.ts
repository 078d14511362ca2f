import { Problem, type Schemas } from "../api/client";

type ToSign = Schemas["ToSign"];
export type Signed = Schemas["Signed"];

/** The bytes of a text in base64url, without padding (RFC 4648 section 5). */
export function bytesOf(base64url: string): Uint8Array<ArrayBuffer> {
  const text = atob(base64url.replaceAll("-", "+").replaceAll("_", "/"));
  return Uint8Array.from(text, (c) => c.charCodeAt(0));
}

/** Bytes in base64, as the API has them. */
export function base64Of(bytes: ArrayBuffer): string {
  return btoa(Array.from(new Uint8Array(bytes), (b) => String.fromCharCode(b)).join(""));
}

/** Has somebody sign a text by a passkey of theirs that the roster has, by finger or number. */
export async function signByPasskey(ask: ToSign): Promise<Signed> {
  const text = new TextEncoder().encode(ask.statement);
  const challenge = await crypto.subtle.digest("SHA-256", text);
  let made: Credential | null;
  try {
    made = await navigator.credentials.get({
      publicKey: {
        challenge,
        ...(ask.site ? { rpId: ask.site } : {}),
        allowCredentials: ask.passkeys.map((p) => ({ type: "public-key", id: bytesOf(p.id) })),
        userVerification: "required",
      },
    });
  } catch {
    made = null; // somebody left, or has none here: people need no more
  }

  const by = made instanceof PublicKeyCredential ? made : null;
  const key = ask.passkeys.find((p) => base64Of(bytesOf(p.id).buffer) === (by ? base64Of(by.rawId) : ""))?.key;
  if (!by || !key || !(by.response instanceof AuthenticatorAssertionResponse)) {
    throw new Problem(0, "Nothing was signed: try again, or sign by the command line.");
  }
  return {
    statement: base64Of(text.buffer),
    key,
    signature: {
      webauthn: {
        client: base64Of(by.response.clientDataJSON),
        authenticator: base64Of(by.response.authenticatorData),
        signature: base64Of(by.response.signature),
      },
    },
  };
}
