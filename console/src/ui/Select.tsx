import { Select as Bound } from "@headlessui/react";
import type { ComponentPropsWithRef } from "react";

/** One of a few. */
export function Select({ className = "", ...rest }: ComponentPropsWithRef<"select">) {
  return <Bound {...rest} className={`box ${className}`} />;
}
