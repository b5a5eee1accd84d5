import { useState, type ReactNode } from "react";

import type { PushRendition, Relay } from "../../../api/types";
import { grouped, rate } from "../../../lib/format";
import { Dialog } from "../../../ui/Dialog";

type Props = { relay: Relay; destination: string; rendition: PushRendition };

/** Version of the feed that a push sends, with its cost. */
export function Rendition({ relay, destination, rendition }: Props): ReactNode {
  const { video, audio, shared_by: sharedBy, cpu_cores: cores, frames_skipped: skipped = 0 } = rendition;
  const formats = [
    ...(video == null
      ? []
      : [`${video.codec} ${video.width}×${video.height}`, `${Math.round(video.fps * 10) / 10} fps`, rate(video.kbps)]),
    ...(audio == null
      ? []
      : [
          audio.source === "silence" ? `${audio.codec}, silence` : audio.codec,
          `${audio.rate_hz / 1000} kHz`,
          `${audio.kbps} kbit/s`,
        ]),
  ];
  const costs = [
    `${(cores * 100).toFixed(cores < 0.1 ? 1 : 0)} % of one core`,
    ...(sharedBy > 1 ? [`shared by ${sharedBy} pushes`] : []),
    ...(skipped > 0 ? [`${grouped(skipped)} frames skipped`] : []),
  ];
  return (
    <p className="text-[12.5px]">
      <strong className="font-semibold">Adapted</strong> {formats.join(" · ")}
      <span className="text-quiet"> · {costs.join(" · ")}</span>
      {video != null && " "}
      {video != null && <Compare relay={relay} destination={destination} />}
    </p>
  );
}

/** Stills of the feed and of its rendition, side by side. */
function Compare({ relay, destination }: { relay: Relay; destination: string }): ReactNode {
  return (
    <Dialog
      wide
      title={`What ${destination} receives`}
      lead="The last keyframes of the feed and of its adapted version, at the same size."
      trigger={
        <button type="button" className="font-semibold underline hover:text-quiet">
          Compare
        </button>
      }
    >
      {() => <Stills relay={relay} destination={destination} />}
    </Dialog>
  );
}

function Stills({ relay, destination }: { relay: Relay; destination: string }): ReactNode {
  const [opened] = useState(() => Date.now());
  const part = encodeURIComponent;
  const pictures = [
    { label: "Feed", source: `/api/v1/feeds/${part(relay.feed.name)}/still.jpg?since=${opened}` },
    {
      label: "Adapted",
      source: `/api/v1/relays/${part(relay.name)}/pushes/${part(destination)}/still.jpg?since=${opened}`,
    },
  ];
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {pictures.map(({ label, source }) => (
        <figure key={label} className="grid gap-1">
          <img src={source} alt={label} className="aspect-video w-full rounded-md bg-edge object-contain" />
          <figcaption className="text-[12.5px] text-quiet">{label}</figcaption>
        </figure>
      ))}
    </div>
  );
}
