import type { ReactNode } from "react";
import { Link } from "react-router";

import type { Relay } from "../../../api/types";
import { grouped, rate, untilRetry } from "../../../lib/format";
import { isFlowing } from "../../../lib/states";
import { Pennant, pennantOf, toneOf } from "../../../ui/Pennant";
import { PreviewDialog } from "../../preview";
import { factsOf } from "../facts";
import { Since } from "./Since";
import { Still } from "./Still";

/** Feed of a line: still and measurements. */
export function FeedNode({ relay }: { relay: Relay }): ReactNode {
  const { feed } = relay;
  const { state } = feed;
  const under = [relay.site, feed.name === relay.name ? null : feed.name].filter((each) => each != null);
  return (
    <div className="flex min-w-0 items-center gap-3.5">
      <Picture relay={relay} />
      <div className="min-w-0">
        <div className="flex items-center gap-[7px]">
          <Pennant state={pennantOf(relay.condition.level)} />
          <h2 className="min-w-0 truncate text-base leading-6 font-[650]">
            <Link to={`/relays/${encodeURIComponent(relay.name)}`} className="inline-block min-h-6 hover:underline">
              {relay.name}
            </Link>
          </h2>
        </div>
        <div className="ml-[29px]">
          {under.length > 0 && <p className="truncate text-[12.5px] text-quiet">{under.join(" · ")}</p>}
          {feed.video != null && <p className="truncate text-[12.5px] text-quiet">{factsOf(feed)}</p>}
          <p className="truncate text-[13px]">
            {isFlowing(state) && feed.video != null ? (
              <>
                <span className="font-[650]">{rate(feed.video.kbps)}</span>
                <Since time={feed.since} className="text-quiet" before=" for " />
              </>
            ) : (
              <span className={`font-semibold ${toneOf(state)}`}>{feed.state}</span>
            )}
            {feed.down_since != null && (
              <span className="text-quiet">
                {" "}
                · down <Since time={feed.down_since} before="for " />
                {(feed.attempts ?? 0) > 1 && `, ${grouped(feed.attempts ?? 0)} tries`}
              </span>
            )}
            {(feed.age_s ?? 0) > 0 && <span className="text-block"> · not updated for {feed.age_s} s</span>}
            {feed.retry_in_s != null && (
              <span className="text-quiet"> · next attempt in {untilRetry(feed.retry_in_s)}</span>
            )}
          </p>
        </div>
      </div>
    </div>
  );
}

/** Latest still, which opens the live preview. */
function Picture({ relay }: { relay: Relay }): ReactNode {
  const still = <Still feed={relay.feed} className="h-[56px] w-[96px] sm:h-[72px] sm:w-[124px]" />;
  if (!isFlowing(relay.feed.state)) {
    return <span className="flex-none">{still}</span>;
  }
  const trigger = (
    <button type="button" aria-label={`Watch ${relay.name}`} className="flex-none rounded-md">
      {still}
    </button>
  );
  return <PreviewDialog feed={relay.feed.name} trigger={trigger} />;
}
