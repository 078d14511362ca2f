import type { ButtonHTMLAttributes } from "react";

const looks = {
  strong: "bg-ink text-paper border-ink hover:opacity-85",
  plain: "bg-sheet text-ink border-line hover:border-ink",
};

export function Button({
  look = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof looks }) {
  return (
    <button
      type="button"
      {...rest}
      className={`inline-flex min-h-9 whitespace-nowrap cursor-pointer items-center rounded border px-3 py-1.5 text-sm font-semibold disabled:cursor-not-allowed disabled:opacity-50 ${looks[look]} ${className}`}
    />
  );
}
