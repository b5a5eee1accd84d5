import type { ReactNode } from "react";
import { Link as RouterLink, type LinkProps } from "react-router";

/** Link within the console. */
export function Link({ className = "", ...rest }: LinkProps): ReactNode {
  return (
    <RouterLink
      className={`underline decoration-edge underline-offset-2 hover:decoration-ink ${className}`}
      {...rest}
    />
  );
}

/** Link in the style of a button. */
export function ButtonLink({ strong = false, className = "", ...rest }: LinkProps & { strong?: boolean }): ReactNode {
  const classes = strong ? "border-ink bg-ink text-paper hover:opacity-90" : "border-edge text-ink hover:border-ink";
  return (
    <RouterLink
      className={`inline-block rounded-md border px-3.5 py-2 text-sm font-semibold whitespace-nowrap ${classes} ${className}`}
      {...rest}
    />
  );
}
