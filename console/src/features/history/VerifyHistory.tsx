import { useCheckHistory } from "../settings/queries";
import { Button } from "../../ui/Button";
import { Note } from "../../ui/Note";

/** Has the service go by all of the history, and says what came of it. */
export function VerifyHistory() {
  const check = useCheckHistory();
  return (
    <>
      <Button disabled={check.isPending} onClick={() => check.mutate()}>
        Verify all of it
      </Button>
      {check.error ? <Note error={check.error} /> : null}
      {check.data?.fault ? <Note error={check.data.fault} /> : null}
      {check.data && !check.data.fault ? (
        <span role="status" className="basis-full text-sm">
          {check.data.lines.toLocaleString()} lines are as they were written. Head{" "}
          <code className="wrap-anywhere">{check.data.head}</code>: noted elsewhere, it keeps all of them from being
          changed unseen.
        </span>
      ) : null}
    </>
  );
}
