import type { ReactNode } from "react";

import type { Destination } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Copy } from "../../../ui/Copy";
import { Dialog } from "../../../ui/Dialog";
import { Fault } from "../../../ui/Fault";
import { useReveal } from "../queries";

/** Shows a key in clear, after asking once more. It is recorded, and forgotten when the dialog closes. */
export function RevealDialog({ destination, trigger }: { destination: Destination; trigger: ReactNode }): ReactNode {
  const lead = "Anyone who has the key can broadcast in this channel’s name. The logbook records that you looked, and when.";
  return (
    <Dialog trigger={trigger} title={`Reveal the key of ${destination.name}?`} lead={lead}>
      {() => <Revealed name={destination.name} />}
    </Dialog>
  );
}

function Revealed({ name }: { name: string }): ReactNode {
  const reveal = useReveal(name);
  if (reveal.data === undefined) {
    return (
      <div className="grid gap-3">
        {reveal.error !== null && <Fault error={reveal.error} />}
        <Button kind="danger" disabled={reveal.isPending} onClick={() => reveal.mutate()} className="justify-self-end">
          Reveal it
        </Button>
      </div>
    );
  }
  return (
    <div className="grid gap-3">
      {reveal.data.key != null && <Copy label="Stream key" text={reveal.data.key} />}
      {reveal.data.passphrase != null && <Copy label="Passphrase" text={reveal.data.passphrase} />}
      {reveal.data.key == null && reveal.data.passphrase == null && <p className="text-quiet">It has no secret.</p>}
    </div>
  );
}
