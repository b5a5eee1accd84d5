import type { ButtonHTMLAttributes, ReactNode, Ref } from "react";

type Kind = "strong" | "plain" | "danger";

const KINDS: Record<Kind, string> = {
  strong: "bg-ink text-paper border-ink hover:opacity-90",
  plain: "bg-transparent text-ink border-edge hover:border-ink",
  danger: "bg-block text-card border-block hover:opacity-90",
};

export type ButtonProps = ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind; ref?: Ref<HTMLButtonElement> };

export function Button({ kind = "plain", className = "", type = "button", ...rest }: ButtonProps): ReactNode {
  return (
    <button
      type={type}
      className={`rounded-md border px-3.5 py-2 text-sm font-semibold whitespace-nowrap disabled:opacity-50 ${KINDS[kind]} ${className}`}
      {...rest}
    />
  );
}
