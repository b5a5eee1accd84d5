import { useId, type ReactNode } from "react";

import type { Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { useHoldingPicture } from "../queries";

/** The picture that broadcasts show while the camera is away: the card, or one of one's own. */
export function HoldingPicture({ relay }: { relay: Relay }): ReactNode {
  const id = useId();
  const change = useHoldingPicture(relay);
  const has = relay.holding_picture === true;
  return (
    <fieldset className="grid gap-2">
      <legend className="mb-1 font-semibold">Holding picture</legend>
      <div className="flex flex-wrap items-center gap-3">
        {has && (
          <img
            src={`/api/v1/relays/${encodeURIComponent(relay.name)}/holding-picture?at=${change.submittedAt}`}
            alt={`Holding picture of ${relay.name}`}
            className="h-[72px] w-[128px] rounded-md border border-hair object-cover"
          />
        )}
        <label
          htmlFor={id}
          className="cursor-pointer rounded-md border border-edge px-3.5 py-2 text-sm font-semibold focus-within:outline-[2.5px] hover:border-ink"
        >
          {has ? "Choose another image" : "Choose an image"}
          <input
            id={id}
            type="file"
            accept="image/png,image/jpeg"
            className="sr-only"
            onChange={(event) => {
              const file = event.target.files?.[0];
              if (file !== undefined) {
                change.mutate(file);
              }
            }}
          />
        </label>
        {has && (
          <Button disabled={change.isPending} onClick={() => change.mutate(null)}>
            Use the default image
          </Button>
        )}
      </div>
      <p className="text-[12.5px] text-quiet">
        {has
          ? "Used from the next hold."
          : "The default image shows the relay’s name and the time since when the camera has been down."}{" "}
        PNG or JPEG, 8 MB at most.
      </p>
      {change.error !== null && <ErrorMessage error={change.error} />}
    </fieldset>
  );
}
