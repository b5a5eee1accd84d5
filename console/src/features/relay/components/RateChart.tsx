import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, type ReactNode } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

import { isFlowing } from "../../../lib/states";
import type { Rates, Relay } from "../../../api/types";
import { Card } from "../../../ui/Card";
import { QueryBoundary } from "../../../ui/QueryBoundary";
import { ratesQuery, type Span } from "../queries";
import { advanced, lineStyle, options, plotted, type Plotted } from "./plot";

const HEIGHT = 280;
const SPANS: readonly { value: Span; label: string }[] = [
  { value: "hour", label: "hour" },
  { value: "day", label: "day" },
  { value: "month", label: "month" },
];

/** Input and output rates on one time axis, with outages shaded. */
export function RateChart({ relay }: { relay: Relay }): ReactNode {
  const [range, setOver] = useState<Span>("hour");
  const rates = useQuery(ratesQuery(relay.name, range));
  const names = [relay.feed.name, ...relay.pushes.map((push) => push.destination)];
  return (
    <Card
      label="Rates"
      title={
        <>
          Rates <small className="font-normal text-quiet">Mbit/s</small>
        </>
      }
      aside={
        <span role="group" aria-label="Range" className="inline-flex gap-1">
          {SPANS.map((span) => (
            <button
              key={span.value}
              type="button"
              aria-pressed={range === span.value}
              onClick={() => setOver(span.value)}
              className="rounded px-2 py-0.5 font-semibold text-quiet aria-pressed:bg-ink aria-pressed:text-paper"
            >
              {span.label}
            </button>
          ))}
        </span>
      }
    >
      <ul className="mb-1 flex flex-wrap gap-x-4 gap-y-0.5 text-[12.5px] text-quiet">
        {names.map((name, at) => (
          <li key={name} className="flex items-center gap-1.5">
            <Line at={at} />
            {at === 0 ? "from the camera" : name}
          </li>
        ))}
      </ul>
      <QueryBoundary query={rates} height={HEIGHT}>
        {(data) => <Plot key={range + names.join("\n")} rates={data} relay={relay} isLive={range === "hour"} />}
      </QueryBoundary>
    </Card>
  );
}

function Line({ at }: { at: number }): ReactNode {
  const { token, dash } = lineStyle(at);
  return (
    <svg width="20" height="4" viewBox="0 0 20 4" aria-hidden="true">
      <path d="M0 2 H20" strokeDasharray={dash.join(" ")} style={{ stroke: `var(--${token})` }} strokeWidth="2.5" />
    </svg>
  );
}

function Plot({ rates, relay, isLive }: { rates: Rates; relay: Relay; isLive: boolean }): ReactNode {
  const place = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const shown = useRef<Plotted>(plotted(rates, relay.feed.name));
  useEffect(() => {
    const element = place.current;
    if (element === null) {
      return undefined;
    }
    shown.current = plotted(rates, relay.feed.name);
    const draw = () => {
      plot.current?.destroy();
      const size = { width: element.clientWidth, height: HEIGHT };
      const plotOptions = options(size, shown.current.names, () => shown.current.outages);
      plot.current = new uPlot(plotOptions, shown.current.data, element);
    };
    draw();
    const resized = new ResizeObserver(() => {
      if (plot.current !== null && plot.current.width !== element.clientWidth) {
        plot.current.setSize({ width: element.clientWidth, height: HEIGHT });
      }
    });
    resized.observe(element);
    // The canvas does not follow the theme by itself.
    const themed = new MutationObserver(draw);
    themed.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    return () => {
      resized.disconnect();
      themed.disconnect();
      plot.current?.destroy();
      plot.current = null;
    };
  }, [rates, relay.feed.name]);
  useEffect(() => {
    if (!isLive) {
      return;
    }
    const flows = isFlowing(relay.feed.state);
    const figures = [flows ? (relay.feed.video?.kbps ?? 0) : 0, ...relay.pushes.map((push) => push.kbps)];
    shown.current = advanced(shown.current, Math.floor(Date.now() / 1000), figures);
    plot.current?.setData(shown.current.data);
  }, [isLive, relay]);
  return <div ref={place} role="img" aria-label={summary(relay)} className="min-h-[280px]" />;
}

/** Latest values, for screen readers. */
function summary(relay: Relay): string {
  const pushes = relay.pushes.map((push) => `${push.destination} ${push.kbps} kbit/s`).join(", ");
  return `Rates over time. Now: from the camera ${relay.feed.video?.kbps ?? 0} kbit/s; ${pushes}`;
}
