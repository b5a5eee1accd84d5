import type { CauseFacts, Condition, FeedState, PushState, Relay } from "../api/types";

/** A push as the service shows it. */
export function push(destination: string, change: Partial<PushState> = {}): PushState {
  return {
    destination,
    state: "live",
    cause: null,
    since: "2026-01-01T00:00:00Z",
    retry_in_s: null,
    kbps: 1000,
    bytes: 0,
    frames_sent: 0,
    frames_dropped: 0,
    reconnects: 0,
    backlog_ms: 0,
    steps: [],
    server: "main",
    link: null,
    ...change,
  };
}

/** A feed as the service shows it. */
export function feed(change: Partial<FeedState> = {}): FeedState {
  return {
    name: "Summit cam",
    state: "flowing",
    since: "2026-01-01T00:00:00Z",
    cause: null,
    retry_in_s: null,
    transport: "tcp",
    video: null,
    audio: null,
    bytes: 0,
    packets_lost: 0,
    units_dropped: 0,
    steps: [],
    reconnects: 0,
    ...change,
  };
}

/** A condition as the service shows it. */
export function condition(change: Partial<Condition> = {}): Condition {
  return {
    level: "good",
    since: "2026-01-01T00:00:00Z",
    attempts: 0,
    side: null,
    cause: null,
    about: [],
    actions: [],
    ...change,
  };
}

/** A relay as the service shows it. */
export function relay(name: string, change: Partial<Relay> = {}): Relay {
  return {
    name,
    wanted: "on",
    condition: condition(),
    hold_after_s: 3,
    holding_picture: false,
    feed: feed(),
    pushes: [push("Bramble TV")],
    ...change,
  };
}

export function cause(change: Partial<CauseFacts> = {}): CauseFacts {
  return {
    code: "feed.no-answer",
    side: "camera",
    message: "It does not answer.",
    hint: "Look.",
    probable_causes: [],
    ...change,
  };
}
