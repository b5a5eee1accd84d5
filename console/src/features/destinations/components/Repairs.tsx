import type { ReactNode } from "react";

import type { Stored } from "../../../api/types";

/** Corrections of pasted input, with the result. */
export function Repairs({ stored }: { stored: Stored }): ReactNode {
  const { destination, repairs } = stored;
  return (
    <div role="status" className="rounded-md border border-flow px-3 py-2 text-[13px]">
      <strong className="text-flow">{destination.name} was saved.</strong> It goes to{" "}
      <span className="break-all">{destination.server}</span>
      {destination.key != null && ` with the key that ends in ${destination.key.ending}`}.
      {repairs.length > 0 && (
        <ul className="mt-1 list-disc pl-5">
          {repairs.map((repair) => (
            <li key={repair}>{repair}</li>
          ))}
        </ul>
      )}
    </div>
  );
}
