import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useRef, type ReactNode } from "react";

import type { Band, Relay } from "../../../api/types";
import { LineCard } from "./LineCard";

/** Number of lines from which the list is virtualized. */
const MANY = 40;
/** Estimated height of a line with two pushes. */
const ESTIMATED_HEIGHT = 150;
const GAP = 10;

type Props = { relays: readonly Relay[]; days: ReadonlyMap<string, readonly Band[]>; stepSeconds: number };

/** List of lines. */
export function LineList(props: Props): ReactNode {
  return props.relays.length < MANY ? <AllLines {...props} /> : <ManyLines {...props} />;
}

function AllLines({ relays, days, stepSeconds }: Props): ReactNode {
  return (
    <ul aria-label="Lines" className="grid gap-2.5">
      {relays.map((relay) => (
        <li key={relay.name} className="min-w-0">
          <LineCard relay={relay} bands={days.get(relay.name)} stepSeconds={stepSeconds} />
        </li>
      ))}
    </ul>
  );
}

function ManyLines({ relays, days, stepSeconds }: Props): ReactNode {
  const list = useRef<HTMLUListElement>(null);
  const virtual = useWindowVirtualizer({
    count: relays.length,
    estimateSize: () => ESTIMATED_HEIGHT,
    gap: GAP,
    overscan: 4,
    scrollMargin: list.current?.offsetTop ?? 0,
    getItemKey: (at) => relays[at]?.name ?? at,
  });
  return (
    <ul aria-label="Lines" ref={list} className="relative" style={{ height: virtual.getTotalSize() }}>
      {virtual.getVirtualItems().map((item) => {
        const relay = relays[item.index];
        return (
          relay !== undefined && (
            <li
              key={item.key}
              ref={virtual.measureElement}
              data-index={item.index}
              aria-setsize={relays.length}
              aria-posinset={item.index + 1}
              className="absolute inset-x-0 top-0"
              style={{ transform: `translateY(${item.start - virtual.options.scrollMargin}px)` }}
            >
              <LineCard relay={relay} bands={days.get(relay.name)} stepSeconds={stepSeconds} />
            </li>
          )
        );
      })}
    </ul>
  );
}
