import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Application = Schemas["Application"];
export type Cause = Schemas["Cause"];
export type Edition = Schemas["Edition"];
export type Finding = Schemas["Finding"];
export type Spot = Schemas["Spot"];
export type Tally = Schemas["Tally"];
export type Trend = Schemas["Trend"];
export type Group = Schemas["Group"];
export type Host = Schemas["Host"];
export type Person = Schemas["Person"];
export type Plan = Schemas["Plan"];
export type PlanGroup = Schemas["PlanGroup"];
export type Report = Schemas["Report"];
export type Run = Schemas["Run"];
export type RunHost = Schemas["RunHost"];
export type Snapshot = Schemas["Snapshot"];
export type View = Schemas["View"];

/** What the service says when something cannot be done (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

let ask: (() => Promise<boolean>) | undefined;

/** Says who asks people to show again who they are; the answer is whether they did. */
export const confirmBy = (asks: typeof ask) => {
  ask = asks;
};

// What is asked while nobody touches the page is no use of the session: it ends like any other.
const aloneAfter = 60_000;
let touched = Date.now();
for (const kind of ["pointerdown", "keydown"])
  addEventListener(kind, () => (touched = Date.now()), { capture: true, passive: true });

/**
 * Makes a call. Where the service wants people to show again who they are (RFC 9470), asks them, and makes the call
 * once more.
 */
async function call(request: Request): Promise<Response> {
  if (Date.now() - touched > aloneAfter) request.headers.set("X-Idletally-Console", "alone");
  const again = request.clone();
  const answer = await fetch(request);
  const wanted =
    answer.status === 401 && answer.headers.get("WWW-Authenticate")?.includes("insufficient_user_authentication");
  return wanted && ask && (await ask()) ? fetch(again) : answer;
}

export const api = createClient<paths>({ baseUrl: "", headers: { "X-Idletally-Console": "1" }, fetch: call });

/** Something that can be edited, with the tag of what was seen: a change of anything else is refused. */
export interface Seen<T> {
  value: T;
  tag: string;
}

/** Gives an answer's body with its tag. */
export async function seen<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<Seen<T>> {
  const value = await body(call);
  return { value, tag: (await call).response.headers.get("ETag") ?? "" };
}

/** Gives an answer's body, or throws what the service says is wrong. */
export async function body<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch {
    throw new Problem(0, "The service does not answer. Check that it is running, and that you are connected.");
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const e = (answer.error ?? {}) as { detail?: string; title?: string };
    throw new Problem(answer.response.status, e.detail ?? e.title ?? `The service answered ${answer.response.status}.`);
  }
  return answer.data as T;
}
