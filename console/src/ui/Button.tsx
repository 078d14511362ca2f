import type { ButtonHTMLAttributes } from "react";
import { buttonLook, type ButtonLook } from "./buttonLook";

export function Button({
  look = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: ButtonLook }) {
  return <button type="button" {...rest} className={buttonLook(look, className)} />;
}
