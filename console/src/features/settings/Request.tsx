import { Link } from "react-router";
import type { Person, Schemas } from "../../api/client";
import { KeyKind } from "../../shared/KeyKind";
import { Sign } from "../../shared/Sign";
import { Button } from "../../ui/Button";
import { Modal } from "../../ui/Modal";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { useAgree, useAgreement, useDecline } from "./queries";

type Asked = Schemas["Request"];

/** What the edition is that a request wants to be published; nothing of any other request. */
function edition(request: Asked): number | undefined {
  if (request.operation !== "publish-edition") return undefined;
  return (JSON.parse(request.says) as { Number?: number }).Number;
}

/** What a request says, and who has agreed to it. */
function Says({ request }: { request: Asked }) {
  const number = edition(request);
  return (
    <>
      {request.summary} {request.application ? <span className="text-muted">({request.application})</span> : null}
      <pre className="mt-1 max-w-xl rounded bg-sheet p-2 text-xs break-all whitespace-pre-wrap">{request.says}</pre>
      {number ? (
        <Link className="text-sm" to={`/baselines/${request.application}?effect=${number}`}>
          What edition {number} would change
        </Link>
      ) : null}
      {request.signed?.map((s) => (
        <div key={s.who} className="text-sm">
          signed by {s.who}, {s.key || "a key that the roster no longer has"} <KeyKind kind={s.kind} />
        </div>
      ))}
    </>
  );
}

/** A request, and what one can do with it. */
export function Request({ request, me }: { request: Asked; me: Person }) {
  const agree = useAgree(request.id);
  const decline = useDecline(request.id);
  const statement = useAgreement(request.id);
  const mine = request.asked_by === me.name;
  return (
    <tr>
      <td>
        <Says request={request} />
        <Note error={agree.error ?? decline.error ?? statement.error} />
        {statement.data ? (
          <Modal title="Sign that you agree to this" close={() => statement.reset()}>
            <Sign
              ask={statement.data}
              label="Sign and agree"
              command={`idletally request agree ${request.id} --sign`}
              give={(signed) => agree.mutate({ signed }, { onSuccess: () => statement.reset() })}
              busy={agree.isPending}
              error={agree.error}
              close={() => statement.reset()}
            />
          </Modal>
        ) : null}
      </td>
      <td>{request.asked_by}</td>
      <td>
        {request.agreed.length} of {request.needed}
        {request.agreed.length ? `: ${request.agreed.join(", ")}` : ""}
        {request.state === "agreed" && mine ? <div className="text-sm">Do it again: it is carried out now.</div> : null}
      </td>
      <td>
        <Time at={request.expires} />
      </td>
      <td className="figure whitespace-nowrap">
        {!mine && request.state === "waiting" ? (
          <Button
            look="strong"
            disabled={agree.isPending || statement.isPending}
            onClick={() => (request.to_sign ? statement.mutate() : agree.mutate({}))}
            aria-label={`Agree to ${request.operation} of ${request.asked_by}`}
          >
            {request.to_sign ? "Agree…" : "Agree"}
          </Button>
        ) : null}{" "}
        <Button
          disabled={decline.isPending}
          onClick={() => decline.mutate(undefined)}
          aria-label={`${mine ? "Take back" : "Decline"} ${request.operation} of ${request.asked_by}`}
        >
          {mine ? "Take back" : "Decline"}
        </Button>
      </td>
    </tr>
  );
}
