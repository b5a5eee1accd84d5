import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import type { RelayEvent } from "../../api/types";
import { forgetRelay, keepRelay, relaysQuery } from "./queries";

/** The event stream: in step, or away since a time. */
export type LiveState = { away: false } | { away: true; since: number };

/** How long after a break the stream is opened anew. */
const REOPEN_MS = 2000;

/** Listens to the service for as long as the page is open, and writes what it says where the page reads. */
export function useLiveRelays(): LiveState {
  const client = useQueryClient();
  const [state, setState] = useState<LiveState>({ away: false });
  useEffect(() => {
    let source: EventSource | undefined;
    let timer: ReturnType<typeof setTimeout> | undefined;
    // Names told since the stream was opened: what is not among them once it is complete has gone.
    let told = new Set<string>();
    const open = () => {
      told = new Set();
      source = new EventSource("/api/v1/events");
      source.onmessage = (message: MessageEvent<string>) => {
        const event = JSON.parse(message.data) as RelayEvent;
        if (event.kind === "relay") {
          told.add(event.relay.name);
          keepRelay(client, event.relay);
        } else if (event.kind === "gone") {
          forgetRelay(client, event.name);
        } else if (event.kind === "complete") {
          client.setQueryData(relaysQuery().queryKey, (known) => known?.filter((each) => told.has(each.name)));
          setState({ away: false });
        }
      };
      source.onerror = () => {
        source?.close();
        setState((before) => (before.away ? before : { away: true, since: Date.now() }));
        timer = setTimeout(open, REOPEN_MS);
      };
    };
    open();
    return () => {
      clearTimeout(timer);
      source?.close();
    };
  }, [client]);
  return state;
}
