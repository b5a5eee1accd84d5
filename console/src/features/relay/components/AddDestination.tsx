import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import { isOff } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { SelectField } from "../../../ui/Field";
import { Tabs } from "../../../ui/Tabs";
import { DestinationForm, destinationsQuery } from "../../destinations";
import { useEditRelay } from "../queries";

/** Adds a push to a relay; those that run are not touched. */
export function AddDestination({ relay }: { relay: Relay }): ReactNode {
  return (
    <Dialog
      trigger={<Button kind="strong">Add a destination</Button>}
      title={`Add a destination to ${relay.name}`}
      lead={
        isOff(relay.wanted) ? "Used from the next start." : "Connects at once. Running broadcasts are not affected."
      }
      wide
    >
      {(close) => <Choose relay={relay} onDone={close} />}
    </Dialog>
  );
}

function Choose({ relay, onDone }: { relay: Relay; onDone: () => void }): ReactNode {
  const destinations = useQuery(destinationsQuery());
  const edit = useEditRelay(relay.name, relay.revision);
  const [way, setWay] = useState("saved");
  const [chosen, setChosen] = useState("");
  const has = relay.pushes.map((push) => push.destination);
  const free = (destinations.data ?? []).filter((each) => !has.includes(each.name));
  const take = (name: string) => edit.mutate({ to: [...has, name] }, { onSuccess: onDone });
  const saved = (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        take(chosen);
      }}
      className="grid gap-4"
    >
      <SelectField
        label="Destination"
        value={chosen}
        onChange={(event) => setChosen(event.target.value)}
        choices={[
          { value: "", label: free.length === 0 ? "all destinations are in use" : "choose one" },
          ...free.map((each) => ({
            value: each.name,
            label: each.relays.length === 0 ? each.name : `${each.name} (used by ${each.relays.join(", ")})`,
          })),
        ]}
      />
      <Button kind="strong" type="submit" disabled={chosen === "" || edit.isPending} className="justify-self-end">
        Add
      </Button>
    </form>
  );
  return (
    <>
      <Tabs
        label="Saved or new"
        value={way}
        onChange={setWay}
        tabs={[
          { value: "saved", label: "Saved destination", content: saved },
          {
            value: "new",
            label: "A new one",
            content: <DestinationForm onStored={(stored) => take(stored.destination.name)} />,
          },
        ]}
      />
      {edit.error !== null && (
        <div className="mt-3">
          <ErrorMessage error={edit.error} />
        </div>
      )}
    </>
  );
}
