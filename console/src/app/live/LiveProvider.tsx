import { useQueryClient } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useState, type ReactNode } from "react";

import type { RelayEvent } from "../../api/types";
import { relaysQuery } from "../../features/lines";
import { Gathered, takeLine, takeSurvey, writeRelays } from "./apply";
import { Staleness } from "./staleness";

/** The event stream: in step, or away since a time. */
export type LiveState = { away: false } | { away: true; since: number };

/** How long after a break the stream is opened anew. */
const REOPEN_MS = 2000;
/** Changes of relays that come together are drawn together. */
const GATHER_MS = 100;
/** A page that nobody has looked at for so long stops listening: a browser opens six connections to a service, no more. */
const HIDDEN_MS = 30_000;

const Live = createContext<LiveState>({ away: false });

export function useLive(): LiveState {
  return useContext(Live);
}

/** Listens to the service for as long as the page is open, and writes what it says where pages read. */
export function LiveProvider({ children }: { children: ReactNode }): ReactNode {
  const client = useQueryClient();
  const [state, setState] = useState<LiveState>({ away: false });
  useEffect(() => {
    let source: EventSource | undefined;
    let reopening: ReturnType<typeof setTimeout> | undefined;
    let writing: ReturnType<typeof setTimeout> | undefined;
    const staleness = new Staleness(client);
    let gathered = new Gathered();
    // Names told since the stream was opened: what is not among them once it is complete has gone.
    let told = new Set<string>();
    let isFirst = true;
    const write = () => {
      writing = undefined;
      writeRelays(client, gathered);
    };
    const complete = () => {
      write();
      client.setQueryData(relaysQuery().queryKey, (known) => known?.filter((each) => told.has(each.name)));
      setState({ away: false });
      if (!isFirst) {
        // What happened meanwhile was told to nobody.
        void client.invalidateQueries({ predicate: (query) => query.queryKey[0] !== relaysQuery().queryKey[0] });
      }
      isFirst = false;
    };
    const take = (event: RelayEvent) => {
      switch (event.kind) {
        case "relay":
          told.add(event.relay.name);
          gathered.take(event);
          break;
        case "gone":
        case "pulse":
          gathered.take(event);
          break;
        case "complete":
          complete();
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
      source?.close();
      source = undefined;
    };
    const open = () => {
      close();
      told = new Set();
      gathered = new Gathered();
      source = new EventSource("/api/v1/events");
      source.onmessage = (message: MessageEvent<string>) => take(JSON.parse(message.data) as RelayEvent);
      source.onerror = () => {
        close();
        setState((before) => (before.away ? before : { away: true, since: Date.now() }));
        reopening = setTimeout(open, REOPEN_MS);
      };
    };
    let hiding: ReturnType<typeof setTimeout> | undefined;
    const look = () => {
      clearTimeout(hiding);
      if (document.visibilityState === "hidden") {
        hiding = setTimeout(close, HIDDEN_MS);
      } else if (source === undefined) {
        open();
      }
    };
    open();
    document.addEventListener("visibilitychange", look);
    // A page that is left may be kept for the way back, and would keep its connection.
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", look);
    return () => {
      document.removeEventListener("visibilitychange", look);
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", look);
      clearTimeout(hiding);
      clearTimeout(writing);
      staleness.stop();
      close();
    };
  }, [client]);
  return <Live value={state}>{children}</Live>;
}
