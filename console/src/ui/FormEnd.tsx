import { Button } from "./Button";
import { Note } from "./Note";

/** The end of a form in a dialog: what went wrong, and the ways out. */
export function FormEnd({
  error,
  close,
  submit,
  disabled,
}: {
  error: Error | string | null | undefined;
  close: () => void;
  submit: string;
  disabled: boolean;
}) {
  return (
    <>
      <Note error={error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={close}>Cancel</Button>
        <Button type="submit" look="strong" disabled={disabled}>
          {submit}
        </Button>
      </div>
    </>
  );
}
