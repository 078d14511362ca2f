import { useId } from "react";
import { Input } from "../ui/Input";

/** The name of an account or group, typed or chosen from those that a host has. */
export function NameInput({
  names,
  value,
  change,
  placeholder,
  className = "mt-0.5 block w-full",
}: {
  names: readonly string[];
  value: string;
  change: (name: string) => void;
  placeholder?: string;
  className?: string;
}) {
  const list = useId();
  return (
    <>
      <Input
        className={className}
        spellCheck={false}
        autoComplete="off"
        list={list}
        placeholder={placeholder}
        value={value}
        onChange={(e) => change(e.target.value)}
      />
      <datalist id={list}>
        {names.map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
    </>
  );
}
