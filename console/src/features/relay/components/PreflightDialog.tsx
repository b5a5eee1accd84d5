import { useEffect, type ReactNode } from "react";

import type { Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Checks } from "../../../ui/Checks";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { JobStep } from "../../../ui/JobStep";
import { TuneButton } from "../../tuning";
import { usePreflight } from "../queries";

/** Runs the checks before a start; nothing is sent to a platform. */
export function PreflightDialog({ relay }: { relay: Relay }): ReactNode {
  return (
    <Dialog
      trigger={<Button>Preflight</Button>}
      title={`Preflight of ${relay.name}`}
      lead="Checks codec, frame size, rates and keyframes against the platforms’ rules, and servers, uplinks and traffic quotas. No key is sent."
      wide
    >
      {() => <Run name={relay.name} feed={relay.feed.name} />}
    </Dialog>
  );
}

function Run({ name, feed }: { name: string; feed: string }): ReactNode {
  const { mutate, ...preflight } = usePreflight(name);
  useEffect(() => mutate(), [mutate]);
  return (
    <div className="grid gap-3">
      {preflight.isPending && (
        <JobStep progress={preflight.progress} otherwise="measuring the feed, and probing the servers" />
      )}
      {preflight.error !== null && <ErrorMessage error={preflight.error} />}
      {preflight.data !== undefined && <Checks checks={preflight.data.checks} />}
      <TuneButton feed={feed} checks={preflight.data?.checks ?? []} onTuned={mutate} />
      <Button disabled={preflight.isPending} onClick={() => mutate()} className="justify-self-end">
        Check again
      </Button>
    </div>
  );
}
