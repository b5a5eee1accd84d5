import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { useParams } from "react-router";

import { ApiError } from "../../api/client";
import type { Relay } from "../../api/types";
import { counted, duration, grouped, listed, rate } from "../../lib/format";
import { useNow } from "../../lib/clock";
import { Button } from "../../ui/Button";
import { Checks } from "../../ui/Checks";
import { Empty } from "../../ui/Empty";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { ButtonLink, Link } from "../../ui/Link";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { isLive, isOff, isPass, needsAttention } from "../../lib/states";
import { Pennant, pennantOf } from "../../ui/Pennant";
import { Timeline } from "../../ui/Timeline";
import { destinationsQuery } from "../destinations";
import { dayQuery, wordsOf, relaysQuery, useSwitch } from "../lines";
import { FeedCard } from "./components/FeedCard";
import { PushCard } from "./components/PushCard";
import { RateChart } from "./components/RateChart";
import { RecentLines } from "./components/RecentLines";
import { RelayActions } from "./components/RelayActions";

/** One relay: its picture, its rates, each of its pushes, its day. */
export function RelayPage(): ReactNode {
  const { name = "" } = useParams();
  const relays = useQuery(relaysQuery());
  return (
    <QueryBoundary query={relays} height={480}>
      {(data) => {
        const relay = data.find((each) => each.name === name);
        return relay === undefined ? (
          <Empty title={`There is no relay ${name}`} action={<ButtonLink to="/">To the lines</ButtonLink>}>
            It may have been renamed or removed.
          </Empty>
        ) : (
          <RelayView key={relay.name} relay={relay} />
        );
      }}
    </QueryBoundary>
  );
}

function RelayView({ relay }: { relay: Relay }): ReactNode {
  const change = useSwitch(relay.name);
  const destinations = useQuery(destinationsQuery());
  const day = useQuery(dayQuery());
  const bands = day.data?.relays.find((each) => each.name === relay.name)?.bands;
  const failed =
    change.error instanceof ApiError && change.error.code === "relay.preflight-failed" ? change.error : null;
  return (
    <>
      <PageHead
        name={relay.name}
        crumbs={
          <>
            <Link to="/">Lines</Link>
            {relay.site != null && ` / ${relay.site}`}
          </>
        }
        title={
          <span className="flex items-center gap-2">
            <Pennant state={pennantOf(relay.condition.level)} size={30} />
            {relay.name}
          </span>
        }
        lead={<Lead relay={relay} />}
        actions={<RelayActions relay={relay} change={change} />}
      />
      {change.error !== null && (
        <div className="mb-4 grid gap-3">
          <ErrorMessage error={change.error} />
          {failed !== null && (
            <>
              <Checks checks={failed.checks.filter((check) => !isPass(check.level))} />
              <Button className="justify-self-start" onClick={() => change.mutate("force")}>
                Start anyway
              </Button>
            </>
          )}
        </div>
      )}
      <div className="mb-4 grid items-start gap-4 lg:grid-cols-[minmax(0,480px)_minmax(0,1fr)]">
        <FeedCard relay={relay} />
        <RateChart relay={relay} />
      </div>
      <div className="mb-4 grid gap-4 md:grid-cols-2 xl:grid-cols-3">
        {relay.pushes.map((push) => (
          <PushCard
            key={push.destination}
            relay={relay}
            push={push}
            destination={destinations.data?.find((each) => each.name === push.destination)}
          />
        ))}
      </div>
      {bands !== undefined && (
        <section aria-label="Last 24 hours" className="mb-4">
          <p className="mb-1 flex justify-between text-[12.5px] text-quiet">
            <span>24 hours ago</span>
            <span>now</span>
          </p>
          <Timeline bands={bands} stepSeconds={day.data?.step_s ?? 60} />
        </section>
      )}
      <RecentLines about={relay.name} />
    </>
  );
}

function Lead({ relay }: { relay: Relay }): ReactNode {
  const now = useNow();
  const { pushes } = relay;
  const { condition } = relay;
  const since = condition.since == null ? "" : ` for ${duration(now - Date.parse(condition.since))}`;
  const tries = condition.attempts > 1 ? `, ${grouped(condition.attempts)} tries` : "";
  const live = pushes.filter((push) => isLive(push.state)).length;
  const others = pushes.filter((push) => !isLive(push.state)).map((push) => `${push.destination} ${push.state}`);
  const going = rate(pushes.reduce((sum, push) => sum + push.kbps, 0));
  const parts = [
    isOff(relay.wanted) ? "Off" : `${wordsOf(relay)}${since}${tries}`,
    ...(needsAttention(condition.level) && condition.about.length > 0 ? [listed(condition.about)] : []),
    `${live} of ${counted(pushes.length, "push", "pushes")} live${others.length > 0 && !isOff(relay.wanted) ? `, ${listed(others)}` : ""}`,
    ...(isOff(relay.wanted) ? [] : [`${going} going out`]),
    ...(relay.on_air == null
      ? []
      : [relay.on_air.now ? "on air" : "off air", `${relay.on_air.windows.join(", ")} in ${relay.on_air.zone}`]),
  ];
  return <span className="inline-block first-letter:uppercase">{parts.join(" · ")}</span>;
}
