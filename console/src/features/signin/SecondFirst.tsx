import type { Person } from "../../api/client";
import { useSignOut } from "./queries";
import { Button } from "../../ui/Button";
import { Confirm } from "../../shared/Confirm";
import { Note } from "../../ui/Note";
import { Outside } from "../../app/Outside";
import { Title } from "../../ui/Title";
import { You } from "../settings/You";

/** What somebody sees whose roles need a second factor, before they have one. */
export function SecondFirst({ me, done }: { me: Person; done: () => void }) {
  const signOut = useSignOut();
  return (
    <Outside
      way={
        <Button disabled={signOut.isPending} onClick={() => signOut.mutate(undefined)}>
          Sign out
        </Button>
      }
    >
      <Title text="A second factor first" does="Set one up, and go on." />
      {me.wants_second ? (
        <Note>Your roles ({me.roles?.join(", ")}) need a second factor. Set one up, then go on.</Note>
      ) : (
        <Note>
          You have a second factor.{" "}
          <Button look="strong" onClick={done}>
            Go on
          </Button>
        </Note>
      )}
      <div className="mt-4">
        <You me={me} />
      </div>
      <Confirm me={me} />
    </Outside>
  );
}
