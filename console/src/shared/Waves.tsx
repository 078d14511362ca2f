import { Input } from "../ui/Input";

export type WaveChoice = { first: number; stop_at: number };

/** In which order hosts run, and what stops the rest; nothing where there is one host only. */
export function Waves({ hosts, value, set }: { hosts: number; value: WaveChoice; set: (v: WaveChoice) => void }) {
  if (hosts < 2) return null;
  const number = (text: string, least: number, most: number) =>
    Math.min(Math.max(Math.trunc(Number(text)) || least, least), most);
  return (
    <fieldset className="mb-4 text-sm">
      <legend className="mb-1">Of {hosts.toLocaleString()} hosts</legend>
      <Input
        type="number"
        className="w-20"
        aria-label="Hosts that run first"
        min={1}
        max={hosts}
        value={value.first}
        onChange={(e) => set({ ...value, first: number(e.target.value, 1, hosts) })}
      />{" "}
      first; the rest where no more than{" "}
      <Input
        type="number"
        className="w-20"
        aria-label="Percent of their steps that may be left"
        min={1}
        max={100}
        value={value.stop_at}
        onChange={(e) => set({ ...value, stop_at: number(e.target.value, 1, 100) })}
      />{" "}
      percent of their steps are left
    </fieldset>
  );
}
