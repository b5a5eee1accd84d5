import { useState, type ReactNode } from "react";

import type { Destination, Stored } from "../../../api/types";
import { counted, day, listed } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { Dialog } from "../../../ui/Dialog";
import { Fault } from "../../../ui/Fault";
import { Link } from "../../../ui/Link";
import { May } from "../../session";
import { useRemoveDestination } from "../queries";
import { EditDestination } from "./EditDestination";
import { RekeyDialog } from "./RekeyDialog";
import { Repairs } from "./Repairs";
import { RevealDialog } from "./RevealDialog";

/** One channel on a platform: where it is, and how its key stands. */
export function DestinationCard({ destination }: { destination: Destination }): ReactNode {
  const [stored, setStored] = useState<Stored | null>(null);
  const remove = useRemoveDestination();
  const uplinks = destination.uplinks ?? [];
  const protocol = destination.protocol.toUpperCase();
  return (
    <Card
      label={destination.name}
      title={destination.name}
      aside={`${destination.platform ?? "no platform"} · ${protocol}${destination.encrypted ? ", encrypted" : ""}`}
    >
      <dl className="grid grid-cols-[92px_minmax(0,1fr)] gap-x-3 gap-y-1 text-[13px]">
        <dt className="text-quiet">Server</dt>
        <dd className="break-all">{destination.server}</dd>
        {destination.backup_server != null && (
          <>
            <dt className="text-quiet">Backup</dt>
            <dd className="break-all">{destination.backup_server}</dd>
          </>
        )}
        <dt className="text-quiet">Key</dt>
        <dd>{keyWords(destination)}</dd>
        {uplinks.length > 0 && (
          <>
            <dt className="text-quiet">Uplinks</dt>
            <dd>{uplinks.join(", then ")}</dd>
          </>
        )}
        {destination.watch_page != null && (
          <>
            <dt className="text-quiet">Watch page</dt>
            <dd className="truncate">
              <a href={destination.watch_page} target="_blank" rel="noreferrer" className="underline decoration-edge">
                {destination.watch_page}
              </a>
            </dd>
          </>
        )}
        <dt className="text-quiet">Relays</dt>
        <dd>
          {destination.relays.length === 0 && <span className="text-quiet">none</span>}
          {destination.relays.map((relay, at) => (
            <span key={relay}>
              {at > 0 && ", "}
              <Link to={`/relays/${encodeURIComponent(relay)}`}>{relay}</Link>
            </span>
          ))}
        </dd>
      </dl>
      <div className="mt-3 flex flex-wrap gap-2">
        <May role="operator">
          <RekeyDialog destination={destination} trigger={<Button>Roll the key</Button>} />
        </May>
        <May role="keeper">
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
              confirm="Remove it with its key"
              onConfirm={() => remove.mutate(destination.name)}
            >
              Its key is forgotten with it. No relay pushes there.
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
          <Fault error={remove.error} />
        </div>
      )}
    </Card>
  );
}

function keyWords(destination: Destination): ReactNode {
  const { key, passphrase } = destination;
  if (key == null && passphrase == null) {
    return <strong className="text-block">none yet</strong>;
  }
  const parts: string[] = [];
  if (key != null) {
    parts.push(`ends in ${key.ending}, ${counted(key.length, "character")}`);
    parts.push(key.age_days === 0 ? "set today" : `${counted(key.age_days, "day")} old`);
    parts.push(key.rolls === 0 ? "never rolled" : `rolled ${counted(key.rolls, "time")}`);
    if (key.kind === "one-broadcast") {
      parts.push(key.used_at == null ? "for one broadcast" : `for one broadcast, used since ${day(key.used_at)}`);
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
        <strong className={Date.parse(expires) - Date.now() < 7 * 86_400_000 ? "text-block" : ""}> · expires {day(expires)}</strong>
      )}
    </>
  );
}
