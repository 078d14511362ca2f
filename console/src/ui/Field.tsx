import { Field as Labelled, Label } from "@headlessui/react";
import type { ReactNode } from "react";

/** A control of the kit with what it is for, before or above it: the two are bound to each other. */
export function Field({
  label,
  className = "",
  children,
}: {
  label: ReactNode;
  className?: string;
  children: ReactNode;
}) {
  return (
    <Labelled as="span" className={className}>
      <Label>{label}</Label> {children}
    </Labelled>
  );
}
