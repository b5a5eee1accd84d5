import type { ReactNode } from "react";

import { isHeld, isOff } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { listed } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import type { Verb } from "../queries";
import { holdText, stopText } from "./LineMenu";

/** Starts, holds, resumes and stops a relay, with confirmation of public effects. */
export function Switches({
  relay,
  isPending,
  ask,
}: {
  relay: Relay;
  isPending: boolean;
  ask: (verb: Verb) => void;
}): ReactNode {
  if (isOff(relay.wanted)) {
    return (
      <Button kind="strong" disabled={isPending} onClick={() => ask("start")}>
        {isPending ? "Checking…" : "Start"}
      </Button>
    );
  }
  const on = listed(relay.pushes.map((push) => push.destination));
  return (
    <>
      {isHeld(relay.wanted) ? (
        <Button kind="strong" disabled={isPending} onClick={() => ask("resume")}>
          Resume
        </Button>
      ) : (
        <ConfirmDialog
          trigger={<Button disabled={isPending}>Hold</Button>}
          title={`Hold ${relay.name}?`}
          confirm="Show the holding picture"
          onConfirm={() => ask("hold")}
        >
          {holdText(on)}
        </ConfirmDialog>
      )}
      <ConfirmDialog
        trigger={<Button disabled={isPending}>Stop</Button>}
        title={`Stop ${relay.name}?`}
        confirm="Stop the broadcast"
        onConfirm={() => ask("stop")}
      >
        {stopText(on)}
      </ConfirmDialog>
    </>
  );
}
