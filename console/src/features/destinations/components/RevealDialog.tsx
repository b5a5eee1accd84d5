import type { ReactNode } from "react";

import type { Destination } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Copy } from "../../../ui/Copy";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { useReveal } from "../queries";

/** Reveals a key after confirmation. The key is dropped when the dialog closes. */
export function RevealDialog({ destination, trigger }: { destination: Destination; trigger: ReactNode }): ReactNode {
  const lead = "Anyone with the key can broadcast on this channel. The audit trail records that you revealed it.";
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
        {reveal.error !== null && <ErrorMessage error={reveal.error} />}
        <Button kind="danger" disabled={reveal.isPending} onClick={() => reveal.mutate()} className="justify-self-end">
          Reveal
        </Button>
      </div>
    );
  }
  return (
    <div className="grid gap-3">
      {reveal.data.key != null && <Copy label="Stream key" text={reveal.data.key} />}
      {reveal.data.passphrase != null && <Copy label="Passphrase" text={reveal.data.passphrase} />}
      {reveal.data.key == null && reveal.data.passphrase == null && (
        <p className="text-quiet">This destination has no secret.</p>
      )}
    </div>
  );
}
