import { memo, type ReactNode } from "react";

import { isOff } from "../../../lib/states";
import { ApiError } from "../../../api/client";
import type { Band, Relay } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { Timeline } from "../../../ui/Timeline";
import { May } from "../../session";
import { notesOf } from "../condition";
import { useSwitch } from "../queries";
import { CauseNote } from "./CauseNote";
import { FeedNode } from "./FeedNode";
import { LineMenu } from "./LineMenu";
import { PushRow } from "./PushRow";
import { FlowDiagram } from "./FlowDiagram";

type Props = { relay: Relay; bands?: readonly Band[] | undefined; stepSeconds?: number };

/** A relay as a line: its feed at the left, its pushes as branches at the right, its day below. */
export const LineCard = memo(function LineCard({ relay, bands, stepSeconds = 60 }: Props): ReactNode {
  const change = useSwitch(relay.name);
  const notes = notesOf(relay);
  return (
    <article
      aria-label={relay.name}
      className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-2 rounded-[10px] border border-hair bg-card px-4 py-3.5 md:grid-cols-[minmax(240px,370px)_minmax(60px,200px)_minmax(0,1fr)_auto] lg:px-[18px]"
    >
      <FeedNode relay={relay} />
      <FlowDiagram relay={relay} />
      <ul
        aria-label="Pushes"
        className="order-3 col-span-2 mt-2 ml-[10px] flex flex-col justify-center border-l-2 border-hair pl-2 md:order-none md:col-span-1 md:m-0 md:border-0 md:pl-0"
      >
        {relay.pushes.map((push) => (
          <PushRow key={push.destination} push={push} />
        ))}
      </ul>
      {/* On a narrow screen the button is a row of its own, so that the name keeps its width. */}
      <div className="contents md:flex md:items-center md:justify-end md:gap-1">
        {isOff(relay.wanted) && (
          <May role="operator">
            <Button
              kind="strong"
              className="order-4 col-span-2 mt-2 md:order-none md:mt-0"
              disabled={change.isPending}
              onClick={() => change.mutate("start")}
            >
              {change.isPending ? "Checking…" : "Start"}
            </Button>
          </May>
        )}
        <div className="order-2 self-start md:order-none md:self-center">
          <LineMenu relay={relay} isPending={change.isPending} ask={change.mutate} />
        </div>
      </div>
      {(notes.length > 0 || change.error !== null || relay.wanted_unsaved === true) && (
        <div className="order-5 col-span-2 mt-2.5 grid gap-1.5 md:order-none md:col-span-4">
          {relay.wanted_unsaved === true && (
            <p className="text-[13px] text-wait">
              Not saved: the disk rejects writes. A restart would restore the previous state.
            </p>
          )}
          {notes.map((note) => (
            <CauseNote key={note.cause.code + note.cause.message} note={note} />
          ))}
          {change.error !== null && <ErrorMessage error={change.error} />}
          {change.error instanceof ApiError && change.error.code === "relay.preflight-failed" && (
            <Button className="justify-self-start" onClick={() => change.mutate("force")}>
              Start anyway
            </Button>
          )}
        </div>
      )}
      {bands !== undefined && (
        <div className="order-6 col-span-2 mt-2.5 md:order-none md:col-span-4">
          <Timeline bands={bands} stepSeconds={stepSeconds} />
        </div>
      )}
    </article>
  );
});
