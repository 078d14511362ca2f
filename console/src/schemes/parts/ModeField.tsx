import { useMode, useModeChange } from "../../features/calculate/queries";
import { ModeCells } from "../../shared/ModeCells";
import { Button } from "../../ui/Button";
import { CodeField } from "../../ui/CodeField";
import { Note } from "../../ui/Note";
import { useSettled } from "../../ui/useSettled";

const octal = /^[0-7]{3,4}$/;

/** A mode that is to be so: cells to be clicked, with the digits or the symbolic change beside them. */
export function ModeField({
  label,
  folder,
  start,
  many = false,
  value,
  change,
}: {
  label: string;
  folder: boolean;
  start: string; // as it is now, or as somebody would begin
  many?: boolean; // of several paths, each with a mode of its own: it stays until a cell is clicked
  value: string; // "" leaves it as it is
  change: (value: string) => void;
}) {
  const typed = useSettled(value.trim());
  const symbolic = typed !== "" && !octal.test(typed);
  const changed = useModeChange(start, symbolic ? typed : "", folder, "0000");
  const shown =
    value === "" ? start : octal.test(value) ? value.padStart(4, "0") : (symbolic && changed.data?.octal) || start;
  const mode = useMode(shown, "");
  return (
    <fieldset className="min-w-0">
      <legend className="mb-1 text-sm font-semibold">{label}</legend>
      <div className="flex flex-wrap items-start gap-x-4 gap-y-2">
        <ModeCells mode={shown} change={change} />
        <div className="min-w-0 text-sm">
          <CodeField
            label="Digits or symbolic"
            className="block"
            width="w-36"
            placeholder={many ? "as each is" : `as it is: ${start}`}
            value={value}
            change={change}
          />
          <code className="mt-1 block text-muted">{mode.data?.letters ?? " "}</code>
          {value === "" ? null : (
            <Button className="mt-1" onClick={() => change("")}>
              Leave as it is
            </Button>
          )}
        </div>
      </div>
      <Note error={symbolic ? changed.error : undefined} />
    </fieldset>
  );
}
