import type { ReactNode } from "react";

import { sideWords, type Note } from "../judge";

const TONES: Record<string, string> = {
  camera: "text-lag",
  network: "text-lag",
  platform: "text-hold",
  ours: "text-block",
};

/** Whose side, what happened, what to do; the code for those who look it up. */
export function CauseNote({ note }: { note: Note }): ReactNode {
  const { cause } = note;
  return (
    <p className="text-[13px] text-quiet">
      <strong className={TONES[cause.side] ?? "text-block"}>{sideWords(cause)}</strong>{" "}
      <span className="text-ink">{cause.message}</span> {cause.hint} <span className="whitespace-nowrap">· {cause.code}</span>
    </p>
  );
}
