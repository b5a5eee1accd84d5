import type { ReactNode } from "react";

/** Logo: two fells and a pennant. */
export function Mark(): ReactNode {
  return (
    <div className="flex items-center gap-2.5 text-[13px] leading-none font-bold">
      <svg width="30" height="26" viewBox="0 0 30 26" aria-hidden="true">
        <path d="M1 24 L10 9 L16 18 L21 11 L29 24 Z" className="fill-none stroke-ink stroke-2" strokeLinejoin="round" />
        <path d="M10 9 V2 L17 4.6 L10 7.2" className="fill-flow stroke-flow" strokeWidth="1.5" strokeLinejoin="round" />
      </svg>
      <span>
        Yonder
        <br />
        Relay
      </span>
    </div>
  );
}
