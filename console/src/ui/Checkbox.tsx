import type { ComponentPropsWithRef, ReactNode } from "react";

/** A box to tick, with what it means behind it. One that stands alone is 24 pixels large (WCAG 2.2, 2.5.8). */
export function Checkbox({
  className = "flex items-center gap-2",
  children,
  ...rest
}: Omit<ComponentPropsWithRef<"input">, "type"> & { children?: ReactNode }) {
  const size = children ? "size-4.5 shrink-0" : "size-[24px] shrink-0";
  const box = <input {...rest} type="checkbox" className={`${size} accent-(--color-ink)`} />;
  return children ? (
    <label className={className}>
      {box}
      {children}
    </label>
  ) : (
    box
  );
}
