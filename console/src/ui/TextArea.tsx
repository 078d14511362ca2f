import { Textarea as Bound } from "@headlessui/react";
import type { ComponentPropsWithRef } from "react";

/** Lines of text. */
export function TextArea({ className = "", ...rest }: ComponentPropsWithRef<"textarea">) {
  return <Bound {...rest} className={`box ${className}`} />;
}
