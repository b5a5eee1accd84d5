import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";

import { isHeld, isOff, isOn } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { listed } from "../../../lib/format";
import { Confirm } from "../../../ui/ConfirmDialog";
import { Menu, MenuItem, MenuRule } from "../../../ui/Menu";
import { useMay } from "../../session";
import type { Verb } from "../queries";

type Props = { relay: Relay; isPending: boolean; ask: (verb: Verb) => void };

/** Actions of a relay. Those that viewers would notice are confirmed first. */
export function LineMenu({ relay, isPending, ask }: Props): ReactNode {
  const [asked, setAsked] = useState<"hold" | "stop" | null>(null);
  const navigate = useNavigate();
  const operates = useMay("operator");
  const trigger = (
    <button
      type="button"
      aria-label={`Actions for ${relay.name}`}
      disabled={isPending}
      className="grid size-9 place-items-center rounded-md border border-transparent text-quiet hover:border-edge hover:text-ink disabled:opacity-50"
    >
      <svg width="18" height="18" viewBox="0 0 18 18" aria-hidden="true" className="fill-current">
        <circle cx="9" cy="3.5" r="1.6" />
        <circle cx="9" cy="9" r="1.6" />
        <circle cx="9" cy="14.5" r="1.6" />
      </svg>
    </button>
  );
  const on = listed(relay.pushes.map((push) => push.destination));
  return (
    <>
      <Menu trigger={trigger}>
        <MenuItem onSelect={() => void navigate(`/relays/${encodeURIComponent(relay.name)}`)}>Open</MenuItem>
        <MenuItem onSelect={() => void navigate(`/logbook?about=${encodeURIComponent(relay.name)}`)}>Logbook</MenuItem>
        {operates && (
          <>
            <MenuRule />
            {isOff(relay.wanted) && <MenuItem onSelect={() => ask("start")}>Start</MenuItem>}
            {isOn(relay.wanted) && <MenuItem onSelect={() => setAsked("hold")}>Hold …</MenuItem>}
            {isHeld(relay.wanted) && <MenuItem onSelect={() => ask("resume")}>Resume</MenuItem>}
            {!isOff(relay.wanted) && <MenuItem onSelect={() => setAsked("stop")}>Stop …</MenuItem>}
          </>
        )}
      </Menu>
      <Confirm
        open={asked === "hold"}
        onOpenChange={() => setAsked(null)}
        title={`Hold ${relay.name}?`}
        confirm="Show the holding picture"
        onConfirm={() => ask("hold")}
      >
        {holdText(on)}
      </Confirm>
      <Confirm
        open={asked === "stop"}
        onOpenChange={() => setAsked(null)}
        title={`Stop ${relay.name}?`}
        confirm="Stop the broadcast"
        onConfirm={() => ask("stop")}
      >
        {stopText(on)}
      </Confirm>
    </>
  );
}

/** Effect of a hold. */
export function holdText(on: string): string {
  return `Viewers on ${on} see the holding picture, without audio, until you resume. The broadcast continues.`;
}

/** Effect of a stop. */
export function stopText(on: string): string {
  return `The broadcast on ${on} ends for all viewers.`;
}
