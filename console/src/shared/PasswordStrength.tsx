import { useStrength } from "../features/signin/queries";
import { useSettled } from "../ui/useSettled";

const words = ["It will not be taken", "It will just do", "Good", "Strong"];

/** How well a new password withstands who guesses, while somebody types it. */
export function PasswordStrength({ name, password }: { name: string; password: string }) {
  const settled = useSettled(password, 300);
  const { data } = useStrength(name, settled);
  if (password === "" || !data) return <p className="mt-1 h-5" />;
  return (
    <p className="mt-1 flex h-5 items-center gap-2 text-sm">
      <span
        className="inline-flex gap-1"
        role="meter"
        aria-label="Strength of the new password"
        aria-valuemin={0}
        aria-valuemax={3}
        aria-valuenow={data.strength}
        aria-valuetext={words[data.strength]}
      >
        {[1, 2, 3].map((step) => (
          <span
            key={step}
            aria-hidden
            className={`h-2 w-8 rounded-sm border border-muted ${step <= data.strength ? "bg-ink" : ""}`}
          />
        ))}
      </span>
      <span aria-live="polite">
        {data.problem
          ? data.problem.replace(/^the new password /, "It ").replace(/: choose another$/, "")
          : words[data.strength]}
      </span>
    </p>
  );
}
