import type { ReactNode } from "react";

import { isOff } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
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
        trigger={<Button disabled={edit.isPending}>Remove</Button>}
        title={`Remove ${destination} from ${relay.name}?`}
        confirm={runs ? "End this broadcast" : "Remove"}
        onConfirm={() => edit.mutate({ to: others })}
      >
        {runs ? `The broadcast on ${destination} ends for all viewers. ` : ""}
        The other pushes are not affected. The destination and its key are retained.
      </ConfirmDialog>
      {edit.error !== null && <ErrorMessage error={edit.error} />}
    </>
  );
}
