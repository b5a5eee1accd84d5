import type uPlot from "uplot";

import type { Outage, Rates } from "../../../api/types";

/** Plotted data: times in seconds, and a row for the feed and for each push. */
export type Plotted = { names: readonly string[]; data: uPlot.AlignedData; outages: readonly Outage[] };

/** Of a relay that is new, a fifth of the time is shown at least. */
const LEAST_SHARE = 0.2;

/** Rates as the plot wants them, in Mbit/s, from when there was something to measure. */
export function plotted(rates: Rates, feed: string): Plotted {
  const rows = [rates.feed, ...rates.pushes.map((push) => push.kbps)];
  const steps = rates.feed.length;
  const firsts = rows.map((row) => row.findIndex((each) => each !== null)).filter((first) => first >= 0);
  const first = Math.min(Math.min(...firsts, steps), Math.floor(steps * (1 - LEAST_SHARE)));
  const from = Date.parse(rates.from) / 1000;
  return {
    names: [feed, ...rates.pushes.map((push) => push.destination)],
    data: [
      Array.from({ length: steps - first }, (_, at) => from + (first + at) * rates.step_s),
      ...rows.map((row) => row.slice(first).map((each) => (each === null ? null : each / 1000))),
    ],
    outages: rates.outages ?? [],
  };
}

/** Visible range of live data, in seconds. */
const MAX_SECONDS = 3600;

/** Adds a second's figures; what is older than an hour goes. */
export function advanced(before: Plotted, second: number, figures: readonly number[]): Plotted {
  const last = before.data[0].at(-1) ?? 0;
  if (second <= last) {
    return before;
  }
  const [times, ...rows] = before.data;
  const oldest = 1 - MAX_SECONDS;
  const next: uPlot.AlignedData = [
    [...Array.from(times).slice(oldest), second],
    ...rows.map((row, at) => [...Array.from(row).slice(oldest), (figures[at] ?? 0) / 1000]),
  ];
  return { ...before, data: next };
}

/** Colors of the theme, by the names of its tokens. Dashes distinguish the lines without colors. */
const TOKENS = ["ink", "flow", "hold", "lag", "wait", "block", "off", "quiet"] as const;
const DASHES: readonly (readonly number[])[] = [[], [], [6, 3], [2, 3], [10, 3, 2, 3], [4, 4], [8, 2], [1, 3]];

function token(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
}

/** The look of a row in the plot and in its key. */
export function lineStyle(at: number): { token: string; dash: readonly number[] } {
  return { token: TOKENS[at % TOKENS.length] ?? "ink", dash: DASHES[at % DASHES.length] ?? [] };
}

function shaded(plot: uPlot, outages: readonly Outage[]): void {
  const { ctx, bbox } = plot;
  ctx.save();
  ctx.fillStyle = token("block");
  ctx.globalAlpha = 0.14;
  for (const outage of outages) {
    const begin = plot.valToPos(Date.parse(outage.begin) / 1000, "x", true);
    const end = outage.end == null ? bbox.left + bbox.width : plot.valToPos(Date.parse(outage.end) / 1000, "x", true);
    const left = Math.max(bbox.left, begin);
    const right = Math.min(bbox.left + bbox.width, Math.max(end, begin + 1));
    if (right > left) {
      ctx.fillRect(left, bbox.top, right - left, bbox.height);
    }
  }
  ctx.restore();
}

/** Options of the plot; created again when the theme or the rows change. */
export function options(
  size: { width: number; height: number },
  names: readonly string[],
  outages: () => readonly Outage[],
): uPlot.Options {
  const font = `11px ${getComputedStyle(document.body).fontFamily}`;
  const [quiet, hair] = [token("quiet"), token("hair")];
  const axis = { stroke: quiet, font, grid: { stroke: hair, width: 1 }, ticks: { show: false } };
  return {
    ...size,
    legend: { show: false },
    cursor: { points: { size: 6 }, y: false },
    scales: { y: { range: (_, __, most) => [0, Math.max(0.5, most * 1.12)] } },
    axes: [
      { ...axis, values: (_, ticks) => ticks.map((tick) => clock(tick, ticks)) },
      { ...axis, size: 40, values: (_, ticks) => ticks.map((tick) => String(Math.round(tick * 100) / 100)) },
    ],
    series: [
      {},
      ...names.map((name, at): uPlot.Series => {
        const { token: color, dash } = lineStyle(at);
        return {
          label: name,
          stroke: token(color),
          width: at === 0 ? 2 : 1.6,
          dash: [...dash],
          points: { show: false },
        };
      }),
    ],
    hooks: { drawClear: [(plot) => shaded(plot, outages())] },
  };
}

function clock(second: number, all: readonly number[]): string {
  const spread = (all.at(-1) ?? 0) - (all[0] ?? 0);
  const date = new Date(second * 1000);
  return spread > 2 * 86_400
    ? date.toLocaleDateString("en-GB", { day: "numeric", month: "short" })
    : date.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
}
