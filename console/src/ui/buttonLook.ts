const looks = {
  strong: "bg-ink text-paper border-ink hover:opacity-85",
  plain: "bg-sheet text-ink border-line hover:border-ink",
};

export type ButtonLook = keyof typeof looks;

/** What buttons look like, and links that do something next. */
export const buttonLook = (look: ButtonLook, more = "") =>
  `inline-flex min-h-9 whitespace-nowrap cursor-pointer items-center rounded border px-3 py-1.5 text-sm font-semibold disabled:cursor-not-allowed disabled:opacity-50 ${looks[look]} ${more}`;
