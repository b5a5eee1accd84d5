import { useEffect, type ReactNode } from "react";

import type { Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Checks } from "../../../ui/Checks";
import { Dialog } from "../../../ui/Dialog";
import { Fault } from "../../../ui/Fault";
import { JobStep } from "../../../ui/JobStep";
import { usePreflight } from "../queries";

/** Runs the checks before a start; nothing is sent to a platform. */
export function PreflightDialog({ relay }: { relay: Relay }): ReactNode {
  return (
    <Dialog
      trigger={<Button>Preflight</Button>}
      title={`Preflight of ${relay.name}`}
      lead="Codec, size, rates and keyframes against the platforms’ rules, servers, uplinks and the month’s traffic. No key is sent."
      wide
    >
      {() => <Run name={relay.name} />}
    </Dialog>
  );
}

function Run({ name }: { name: string }): ReactNode {
  const { mutate, ...preflight } = usePreflight(name);
  useEffect(() => mutate(), [mutate]);
  return (
    <div className="grid gap-3">
      {preflight.isPending && <JobStep progress={preflight.progress} otherwise="measuring the feed, and reaching the servers" />}
      {preflight.error !== null && <Fault error={preflight.error} />}
      {preflight.data !== undefined && <Checks checks={preflight.data.checks} />}
      <Button disabled={preflight.isPending} onClick={() => mutate()} className="justify-self-end">
        Check again
      </Button>
    </div>
  );
}
