import { useQueryClient } from "@tanstack/react-query";
import { createContext, useCallback, useContext, useEffect, useMemo, useState, type ReactNode } from "react";

import type { RelayEvent } from "../../api/types";
import { call, isSignedOut } from "../../api/client";
import { relaysQuery } from "../../features/lines";
import { EventBatch, takeLine, takeSurvey, writeRelays } from "./apply";
import { Staleness } from "./staleness";

/** State of the event stream. */
export type LiveState = { away: false } | { away: true; since: number; signedOut: boolean };

/** Delay before the stream is reopened after a break. */
const REOPEN_MS = 2000;
/** Interval of batched updates, in milliseconds. */
const GATHER_MS = 100;
/** Time after which a hidden page closes its stream: browsers open six connections per host. */
const HIDDEN_MS = 30_000;
/** Timeout without any message; the service sends a heartbeat every ten seconds. */
const SILENCE_MS = 25_000;

const Live = createContext<{ state: LiveState; reopen: () => void }>({
  state: { away: false },
  reopen: () => undefined,
});

export function useLive(): LiveState {
  return useContext(Live).state;
}

/** Reopens the event stream, for instance after a sign-in. */
export function useReopen(): () => void {
  return useContext(Live).reopen;
}

/** Receives live events and writes them to the query cache. */
export function LiveProvider({ children }: { children: ReactNode }): ReactNode {
  const client = useQueryClient();
  const [state, setState] = useState<LiveState>({ away: false });
  const [attempt, setAttempt] = useState(0);
  const reopen = useCallback(() => setAttempt((before) => before + 1), []);
  const value = useMemo(() => ({ state, reopen }), [state, reopen]);
  useEffect(() => {
    let source: EventSource | undefined;
    let reopening: ReturnType<typeof setTimeout> | undefined;
    let silence: ReturnType<typeof setTimeout> | undefined;
    let isOver = false;
    let writing: ReturnType<typeof setTimeout> | undefined;
    const staleness = new Staleness(client);
    let batch = new EventBatch();
    // Names received since the stream was opened: relays that are not among them once it is complete were removed.
    let received = new Set<string>();
    let isFirst = attempt === 0;
    const write = () => {
      writing = undefined;
      writeRelays(client, batch);
    };
    const complete = () => {
      write();
      client.setQueryData(relaysQuery().queryKey, (known) => known?.filter((each) => received.has(each.name)));
      setState({ away: false });
      if (!isFirst) {
        // Events during the break are lost.
        void client.invalidateQueries({ predicate: (query) => query.queryKey[0] !== relaysQuery().queryKey[0] });
      }
      isFirst = false;
    };
    const take = (event: RelayEvent) => {
      switch (event.kind) {
        case "relay":
          received.add(event.relay.name);
          batch.take(event);
          break;
        case "removed":
        case "stats":
          batch.take(event);
          break;
        case "complete":
          complete();
          return;
        case "alive":
          return;
        case "log":
          takeLine(client, staleness, event.entry);
          return;
        case "survey":
          takeSurvey(client, event);
          return;
      }
      writing ??= setTimeout(write, GATHER_MS);
    };
    const close = () => {
      clearTimeout(reopening);
      clearTimeout(silence);
      source?.close();
      source = undefined;
    };
    const open = () => {
      close();
      received = new Set();
      batch = new EventBatch();
      source = new EventSource("/api/v1/events");
      source.onmessage = (message: MessageEvent<string>) => {
        listen();
        take(JSON.parse(message.data) as RelayEvent);
      };
      source.onerror = lose;
      listen();
    };
    /** Waits for the next message. */
    const listen = () => {
      clearTimeout(silence);
      silence = setTimeout(lose, SILENCE_MS);
    };
    const lose = () => {
      close();
      setState((before) => (before.away ? before : { away: true, since: Date.now(), signedOut: false }));
      reopening = setTimeout(() => void tryAgain(), REOPEN_MS);
    };
    /** The stream reports no reason; a request shows whether the session has ended. */
    const tryAgain = async () => {
      const failure = await call("GET", ["session"]).then(
        () => null,
        (error: unknown) => error,
      );
      if (isOver) {
        return;
      }
      if (isSignedOut(failure)) {
        setState((before) => ({ away: true, since: before.away ? before.since : Date.now(), signedOut: true }));
      } else {
        open();
      }
    };
    let hiding: ReturnType<typeof setTimeout> | undefined;
    const onVisibilityChange = () => {
      clearTimeout(hiding);
      if (document.visibilityState === "hidden") {
        hiding = setTimeout(close, HIDDEN_MS);
      } else if (source === undefined) {
        open();
      }
    };
    onVisibilityChange();
    document.addEventListener("visibilitychange", onVisibilityChange);
    // The back/forward cache would keep the connection.
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", onVisibilityChange);
    return () => {
      isOver = true;
      document.removeEventListener("visibilitychange", onVisibilityChange);
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", onVisibilityChange);
      clearTimeout(hiding);
      clearTimeout(writing);
      staleness.stop();
      close();
    };
  }, [client, attempt]);
  return <Live value={value}>{children}</Live>;
}
