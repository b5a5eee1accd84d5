import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Stored } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { QueryBoundary } from "../../../ui/QueryBoundary";
import { Tabs } from "../../../ui/Tabs";
import { Toggle } from "../../../ui/Toggle";
import { DestinationForm, Repairs, destinationsQuery } from "../../destinations";
import type { StepProps } from "../NewRelayPage";

/** Destination: server address and key as pasted, or a stored one. */
export function DestinationStep({ draft, change }: StepProps): ReactNode {
  const destinations = useQuery(destinationsQuery());
  const [way, setWay] = useState("new");
  const [stored, setStored] = useState<Stored | null>(null);
  const choose = (name: string, chosen: boolean) =>
    change({
      to: chosen ? [...draft.to.filter((each) => each !== name), name] : draft.to.filter((each) => each !== name),
    });
  const saved = (
    <QueryBoundary query={destinations}>
      {(data) => (
        <div className="grid gap-2 sm:grid-cols-2">
          {data.length === 0 && <p className="text-quiet">No saved destinations yet.</p>}
          {data.map((each) => (
            <Toggle
              key={each.name}
              label={each.name}
              help={`${each.platform ?? each.server}${each.relays.length === 0 ? "" : `, used by ${each.relays.join(", ")}`}`}
              checked={draft.to.includes(each.name)}
              onChange={(chosen) => choose(each.name, chosen)}
            />
          ))}
        </div>
      )}
    </QueryBoundary>
  );
  return (
    <Card label="Destinations">
      {stored !== null && (
        <div className="mb-4">
          <Repairs stored={stored} />
        </div>
      )}
      <Tabs
        label="Destinations"
        value={way}
        onChange={setWay}
        tabs={[
          {
            value: "new",
            label: "New destination",
            content: (
              <DestinationForm
                key={draft.to.length}
                onStored={(done) => {
                  setStored(done);
                  choose(done.destination.name, true);
                }}
              />
            ),
          },
          { value: "saved", label: `Saved destinations (${destinations.data?.length ?? 0})`, content: saved },
        ]}
      />
      <div className="mt-4 flex flex-wrap items-center justify-between gap-3 border-t border-hair pt-4">
        <p>
          {draft.to.length === 0 ? (
            <span className="text-quiet">No destination chosen.</span>
          ) : (
            <>
              Goes to <strong className="font-[650]">{draft.to.join(", ")}</strong>
            </>
          )}
        </p>
        <Button kind="strong" disabled={draft.to.length === 0} onClick={() => change({ step: "check" })}>
          Continue to the checks
        </Button>
      </div>
    </Card>
  );
}
