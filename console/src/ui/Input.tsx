import { Input as Bound } from "@headlessui/react";
import type { ComponentPropsWithRef } from "react";

/** A line of text, a number or a date. */
export function Input({ className = "", ...rest }: ComponentPropsWithRef<"input">) {
  return <Bound {...rest} className={`box ${className}`} />;
}
