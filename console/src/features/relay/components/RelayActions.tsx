import type { ReactNode } from "react";
import { useNavigate } from "react-router";

import { isOff } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { listed } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { Dialog } from "../../../ui/Dialog";
import { Switches } from "../../lines";
import type { useSwitch } from "../../lines";
import { May } from "../../session";
import { useRemoveRelay } from "../queries";
import { AddDestination } from "./AddDestination";
import { PreflightDialog } from "./PreflightDialog";
import { RehearsalDialog } from "./RehearsalDialog";
import { RelaySettings } from "./RelaySettings";

type Props = { relay: Relay; change: ReturnType<typeof useSwitch> };

/** Everything that can be done with a relay. */
export function RelayActions({ relay, change }: Props): ReactNode {
  const navigate = useNavigate();
  const remove = useRemoveRelay(relay.name);
  const on = listed(relay.pushes.map((push) => push.destination));
  return (
    <>
      <May role="operator">
        <Switches relay={relay} isPending={change.isPending} ask={change.mutate} />
        <PreflightDialog relay={relay} />
        <RehearsalDialog relay={relay} />
      </May>
      <May role="admin">
        <Dialog trigger={<Button>Settings</Button>} title={`Settings of ${relay.name}`} wide>
          {(close) => (
            <RelaySettings
              relay={relay}
              onDone={(done) => {
                close();
                void navigate(`/relays/${encodeURIComponent(done.name)}`, { replace: true });
              }}
            />
          )}
        </Dialog>
        <ConfirmDialog
          trigger={<Button>Remove</Button>}
          title={`Remove ${relay.name}?`}
          confirm="Remove relay"
          onConfirm={() => remove.mutate(undefined, { onSuccess: () => void navigate("/") })}
        >
          {isOff(relay.wanted) ? "" : `The broadcast on ${on} ends for all viewers. `}
          The feed, the destinations and their keys are retained, and so are the logbook entries.
        </ConfirmDialog>
        <AddDestination relay={relay} />
      </May>
    </>
  );
}
