import type { ReactNode } from "react";

import { isOff } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { Fault } from "../../../ui/Fault";
import { useEditRelay } from "../queries";

/** Takes one push out of a relay; the others are not touched. */
export function RemovePush({ relay, destination }: { relay: Relay; destination: string }): ReactNode {
  const edit = useEditRelay(relay.name, relay.revision);
  const others = relay.pushes.map((push) => push.destination).filter((name) => name !== destination);
  if (others.length === 0) {
    return null;
  }
  const runs = !isOff(relay.wanted);
  return (
    <>
      <ConfirmDialog
        trigger={<Button disabled={edit.isPending}>Take out</Button>}
        title={`Take ${destination} out of ${relay.name}?`}
        confirm={runs ? "End this broadcast" : "Take it out"}
        onConfirm={() => edit.mutate({ to: others })}
      >
        {runs ? `The broadcast on ${destination} ends for everybody who watches there. ` : ""}
        The other pushes are not touched. The destination and its key stay.
      </ConfirmDialog>
      {edit.error !== null && <Fault error={edit.error} />}
    </>
  );
}
