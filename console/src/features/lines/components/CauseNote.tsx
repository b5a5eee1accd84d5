import type { ReactNode } from "react";

import type { FaultDomain } from "../../../lib/states";
import { faultDomainText, type Note } from "../condition";

const TONES: Record<FaultDomain, string> = {
  camera: "text-lag",
  network: "text-lag",
  platform: "text-hold",
  ours: "text-block",
  planned: "text-quiet",
};

/** Cause: fault domain, message, next step, and the code. */
export function CauseNote({ note }: { note: Note }): ReactNode {
  const { cause } = note;
  return (
    <div className="text-[13px] text-quiet">
      <strong className={TONES[cause.side]}>{faultDomainText(cause)}</strong>{" "}
      <span className="text-ink">{cause.message}</span> {cause.hint}{" "}
      <span className="whitespace-nowrap">· {cause.code}</span>
      {(cause.probable_causes ?? []).length > 0 && (
        <details className="mt-0.5">
          <summary className="cursor-pointer font-semibold">Probable causes</summary>
          <ol className="mt-0.5 list-decimal pl-5">
            {(cause.probable_causes ?? []).map((reason) => (
              <li key={reason}>{reason}</li>
            ))}
          </ol>
        </details>
      )}
    </div>
  );
}
