import type { QueryClient } from "@tanstack/react-query";

import type { LogEntry, Relay, RelayEvent, RelayStats } from "../../api/types";
import { budgetKey, uplinksKey } from "../../features/budget";
import { destinationsKey } from "../../features/destinations";
import { feedsKey, patternsKey, surveyQuery } from "../../features/feeds";
import { dayKey, relaysQuery } from "../../features/lines";
import { appendLogEntry, reportKey } from "../../features/logbook";
import { platformsKey } from "../../features/platforms";
import { alertsKey, peopleKey, contactsKey, tokensKey } from "../../features/settings";
import type { Staleness } from "./staleness";

/** Writes a stats event into a relay. */
export function withStats(relay: Relay, stats: RelayStats): Relay {
  const { feed } = stats;
  const video = relay.feed.video;
  return {
    ...relay,
    feed: {
      ...relay.feed,
      bytes: feed.bytes,
      packets_lost: feed.packets_lost,
      units_dropped: feed.units_dropped,
      retry_in_s: feed.retry_in_s ?? null,
      age_s: feed.age_s ?? 0,
      ...(video == null
        ? {}
        : {
            video: {
              ...video,
              kbps: feed.kbps,
              fps: feed.fps ?? null,
              keyframe_interval_s: feed.keyframe_interval_s ?? null,
            },
          }),
    },
    pushes: relay.pushes.map((push, at) => {
      const now = stats.pushes[at];
      return now === undefined ? push : { ...push, ...now };
    }),
  };
}

/** Changes of relays that are written to the query cache together. */
export class EventBatch {
  private readonly changed = new Map<string, Relay | null>();
  private stats: RelayStats[] = [];

  take(event: Extract<RelayEvent, { kind: "relay" | "removed" | "stats" }>): void {
    switch (event.kind) {
      case "relay":
        this.changed.set(event.relay.name, event.relay);
        break;
      case "removed":
        this.changed.set(event.name, null);
        break;
      case "stats":
        this.stats.push(...event.relays);
    }
  }

  /** Returns true if the batch is empty. */
  isEmpty(): boolean {
    return this.changed.size === 0 && this.stats.length === 0;
  }

  /** The relays as they are now; the batch is emptied. */
  applyTo(known: readonly Relay[]): Relay[] {
    const relays = new Map(known.map((relay) => [relay.name, relay]));
    for (const [name, relay] of this.changed) {
      if (relay === null) {
        relays.delete(name);
      } else {
        relays.set(name, relay);
      }
    }
    for (const stats of this.stats) {
      const relay = relays.get(stats.name);
      if (relay !== undefined) {
        relays.set(stats.name, withStats(relay, stats));
      }
    }
    this.changed.clear();
    this.stats = [];
    return [...relays.values()];
  }
}

export function writeRelays(client: QueryClient, batch: EventBatch): void {
  if (!batch.isEmpty()) {
    client.setQueryData(relaysQuery().queryKey, (known) => batch.applyTo(known ?? []));
  }
}

/** Queries that a logged action makes stale, by its subject. */
const STALE: Record<string, readonly (readonly string[])[]> = {
  feed: [feedsKey, budgetKey],
  destination: [destinationsKey, budgetKey],
  platform: [platformsKey],
  uplink: [uplinksKey, budgetKey],
  relay: [budgetKey, dayKey, destinationsKey, feedsKey],
  pattern: [patternsKey],
  person: [peopleKey],
  session: [peopleKey],
  token: [tokensKey],
  alert: [alertsKey],
  contact: [contactsKey],
};

/** Delays of refetches: actions at once, aggregated states later. */
const ACTION_DELAY_MS = 150;
const LATER_MS = 10_000;

/** Appends a new line of the logbook, and refetches the queries that it makes stale. */
export function takeLine(client: QueryClient, staleness: Staleness, entry: LogEntry): void {
  appendLogEntry(client, entry);
  if (entry.who != null) {
    staleness.mark(STALE[entry.kind] ?? [], ACTION_DELAY_MS);
  } else {
    staleness.mark([dayKey, reportKey, alertsKey], LATER_MS);
  }
}

export function takeSurvey(client: QueryClient, event: Extract<RelayEvent, { kind: "survey" }>): void {
  client.setQueryData(surveyQuery(event.survey.id).queryKey, event.survey);
}
