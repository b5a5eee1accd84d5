import { useState, type ReactNode } from "react";

import type { Destination, Stored } from "../../../api/types";
import { counted, day, listed } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { Dialog } from "../../../ui/Dialog";
import { Facts } from "../../../ui/Facts";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { Link } from "../../../ui/Link";
import { May } from "../../session";
import { useRemoveDestination } from "../queries";
import { EditDestination } from "./EditDestination";
import { RekeyDialog } from "./RekeyDialog";
import { Repairs } from "./Repairs";
import { RevealDialog } from "./RevealDialog";

/** Card of a destination. */
export function DestinationCard({ destination }: { destination: Destination }): ReactNode {
  const [stored, setStored] = useState<Stored | null>(null);
  const remove = useRemoveDestination();
  const protocol = destination.protocol.toUpperCase();
  return (
    <Card
      label={destination.name}
      title={destination.name}
      aside={`${destination.platform ?? "no platform"} · ${protocol}${destination.encrypted ? ", encrypted" : ""}`}
    >
      <Facts rows={rowsOf(destination)} />
      <div className="mt-3 flex flex-wrap gap-2">
        <May role="operator">
          <RekeyDialog destination={destination} trigger={<Button>Roll key</Button>} />
        </May>
        <May role="admin">
          <RevealDialog destination={destination} trigger={<Button>Reveal</Button>} />
          <Dialog trigger={<Button>Change</Button>} title={`Change ${destination.name}`} wide>
            {(close) => (
              <EditDestination
                destination={destination}
                onStored={(done) => {
                  setStored(done);
                  close();
                }}
              />
            )}
          </Dialog>
          {destination.relays.length === 0 && (
            <ConfirmDialog
              trigger={<Button>Remove</Button>}
              title={`Remove ${destination.name}?`}
              confirm="Remove destination and key"
              onConfirm={() => remove.mutate(destination.name)}
            >
              Its key is deleted. No relay uses it.
            </ConfirmDialog>
          )}
        </May>
      </div>
      {stored !== null && (
        <div className="mt-3">
          <Repairs stored={stored} />
        </div>
      )}
      {remove.error !== null && (
        <div className="mt-3">
          <ErrorMessage error={remove.error} />
        </div>
      )}
    </Card>
  );
}

function rowsOf(destination: Destination): [string, ReactNode][] {
  const { server, backup_server: backup, uplinks = [], watch_page: watch, relays } = destination;
  const rows: [string, ReactNode][] = [["Server", server]];
  if (backup != null) {
    rows.push(["Backup", backup]);
  }
  rows.push(["Key", keyText(destination)]);
  if (uplinks.length > 0) {
    rows.push(["Uplinks", uplinks.join(", then ")]);
  }
  if (watch != null) {
    rows.push([
      "Watch page",
      <a key="watch" href={watch} target="_blank" rel="noreferrer" className="underline decoration-edge">
        {watch}
      </a>,
    ]);
  }
  const named = relays.map((relay, at) => (
    <span key={relay}>
      {at > 0 && ", "}
      <Link to={`/relays/${encodeURIComponent(relay)}`}>{relay}</Link>
    </span>
  ));
  rows.push(["Relays", relays.length === 0 ? <span className="text-quiet">none</span> : named]);
  return rows;
}

function keyText(destination: Destination): ReactNode {
  const { key, passphrase } = destination;
  if (key == null && passphrase == null) {
    return <strong className="text-block">none yet</strong>;
  }
  if (destination.secret_lost === true) {
    return <strong className="text-block">cannot be decrypted: set it again</strong>;
  }
  const parts: string[] = [];
  if (key != null) {
    parts.push(`ends in ${key.ending}, ${counted(key.length, "character")}`);
    parts.push(key.age_days === 0 ? "set today" : `${counted(key.age_days, "day")} old`);
    parts.push(key.rolls === 0 ? "never rolled" : `rolled ${counted(key.rolls, "time")}`);
    if (key.kind === "one-broadcast") {
      parts.push(key.used_at == null ? "one broadcast" : `one broadcast, in use since ${day(key.used_at)}`);
    }
  }
  if (passphrase != null) {
    parts.push(`passphrase for ${passphrase.key_length}-bit encryption`);
  }
  const expires = key?.expires_at;
  return (
    <>
      {listed(parts)}
      {expires != null && (
        <strong className={Date.parse(expires) - Date.now() < 7 * 86_400_000 ? "text-block" : ""}>
          {" "}
          · expires {day(expires)}
        </strong>
      )}
    </>
  );
}
