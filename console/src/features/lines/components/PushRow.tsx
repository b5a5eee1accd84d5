import type { ReactNode } from "react";

import type { PushState } from "../../../api/types";
import { grouped, rate, untilRetry } from "../../../lib/format";
import { isSending } from "../../../lib/states";
import { Pennant, toneOf } from "../../../ui/Pennant";
import { progressOf } from "../condition";
import { Since } from "./Since";

/** Height of a row, at which branches end. */
export const ROW = 38;

/** Destination and state of a push. */
export function PushRow({ push }: { push: PushState }): ReactNode {
  const { state } = push;
  const sends = isSending(state);
  return (
    <li
      aria-label={push.destination}
      className="grid min-h-[38px] grid-cols-[26px_minmax(0,1fr)_auto] items-center gap-x-1 pl-2 md:h-[38px] xl:grid-cols-[26px_minmax(0,220px)_66px_110px_minmax(0,1fr)]"
    >
      <Pennant state={state} />
      <span className="truncate font-semibold">{push.destination}</span>
      <span className={`text-[13px] font-semibold ${toneOf(state)}`}>{push.state}</span>
      {sends && (
        <span className="col-start-2 text-[13px] font-[550] xl:col-start-4 xl:pr-3.5 xl:text-right xl:text-sm">
          {rate(push.kbps)}
        </span>
      )}
      <span
        className={`truncate text-right text-[12.5px] text-quiet ${sends ? "xl:text-left" : "col-span-2 col-start-2 xl:col-start-4"}`}
      >
        <Detail push={push} />
      </span>
    </li>
  );
}

function Detail({ push }: { push: PushState }): ReactNode {
  switch (push.state) {
    case "live":
    case "holding":
      return (
        <>
          <Since time={push.since} />
          {push.frames_dropped > 0 && ` · ${grouped(push.frames_dropped)} skipped`}
        </>
      );
    case "lagging":
      return `${(push.backlog_ms / 1000).toFixed(1)} s behind · ${grouped(push.frames_dropped)} skipped`;
    case "dialing":
      return progressOf(push);
    case "waiting":
      return push.retry_in_s == null ? "for the feed" : `next attempt in ${untilRetry(push.retry_in_s)}`;
    case "blocked":
      return push.retry_in_s == null ? "needs you" : `needs you · next attempt in ${untilRetry(push.retry_in_s)}`;
    case "off":
      return null;
  }
}
