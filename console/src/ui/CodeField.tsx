import { Field } from "./Field";
import { Input } from "./Input";

/** A line of what machines read: a mode, a path, a list. */
export function CodeField({
  label,
  className,
  width,
  placeholder,
  value,
  change,
}: {
  label: string;
  className: string;
  width: string;
  placeholder?: string;
  value: string;
  change: (value: string) => void;
}) {
  return (
    <Field label={label} className={className}>
      <Input
        className={`mono mt-0.5 block ${width}`}
        spellCheck={false}
        placeholder={placeholder}
        value={value}
        onChange={(e) => change(e.target.value)}
      />
    </Field>
  );
}
