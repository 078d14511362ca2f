import type { ComponentPropsWithRef, FormEvent } from "react";

/** A form that is sent by the page itself. */
export function Form({
  onSubmit,
  ...rest
}: Omit<ComponentPropsWithRef<"form">, "onSubmit"> & { onSubmit?: (e: FormEvent<HTMLFormElement>) => void }) {
  return (
    <form
      {...rest}
      onSubmit={(e) => {
        e.preventDefault();
        onSubmit?.(e);
      }}
    />
  );
}
