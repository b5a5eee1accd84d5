import type { ReactNode } from "react";

const TONES: Record<string, string> = { pass: "text-flow", good: "text-flow", warn: "text-wait", fail: "text-block" };

function shape(level: string): ReactNode {
  switch (level) {
    case "pass":
    case "good":
      return <path d="M3.5 8.5 L7 12 L13 4.5" className="fill-none stroke-current stroke-2" strokeLinecap="round" />;
    case "warn":
      return (
        <>
          <path d="M8 2 L15 14 H1 Z" className="fill-none stroke-current stroke-[1.6]" strokeLinejoin="round" />
          <path d="M8 6.5 V10 M8 12 V12.2" className="stroke-current stroke-[1.8]" strokeLinecap="round" />
        </>
      );
    default:
      return <path d="M4 4 L12 12 M12 4 L4 12" className="stroke-current stroke-[2.2]" strokeLinecap="round" />;
  }
}

/** Result of a check, by shape, text and color. */
export function CheckBadge({ level }: { level: string }): ReactNode {
  return (
    <span
      className={`inline-flex items-center gap-1.5 font-semibold whitespace-nowrap ${TONES[level] ?? "text-block"}`}
    >
      <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true" className="flex-none">
        {shape(level)}
      </svg>
      {level}
    </span>
  );
}
