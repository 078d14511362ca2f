/** The kind of a key that somebody signs by: SSH's own name, or that it is a passkey. */
export function KeyKind({ kind }: { kind: string }) {
  return <span className="text-sm text-muted">{kind === "webauthn" ? "passkey" : kind}</span>;
}
