import { Problem, type Schemas } from "../api/client";

type Asked = Schemas["AskedPasskey"];

/** Whether this browser knows passkeys, as JSON (Web Authentication, level 3). */
export const knowsPasskeys = () =>
  typeof PublicKeyCredential !== "undefined" && "parseRequestOptionsFromJSON" in PublicKeyCredential;

function answer(credential: Credential | null, asked: Asked): Schemas["ShownPasskey"] {
  if (!(credential instanceof PublicKeyCredential)) throw new Problem(0, "The browser gave no passkey.");
  return { answer: JSON.stringify(credential.toJSON()), state: asked.state };
}

/** What a browser says when somebody leaves, or has none: people need no more. */
async function left<T>(doing: Promise<T>): Promise<T> {
  try {
    return await doing;
  } catch {
    throw new Problem(0, "No passkey was given: try again, or go another way.");
  }
}

/** Has the browser make a passkey. */
export async function makePasskey(asked: Asked): Promise<Schemas["ShownPasskey"]> {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    JSON.parse(asked.options) as PublicKeyCredentialCreationOptionsJSON,
  );
  return answer(await left(navigator.credentials.create({ publicKey })), asked);
}

/** Has somebody show a passkey. */
export async function showPasskey(asked: Asked): Promise<Schemas["ShownPasskey"]> {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(
    JSON.parse(asked.options) as PublicKeyCredentialRequestOptionsJSON,
  );
  return answer(await left(navigator.credentials.get({ publicKey })), asked);
}
