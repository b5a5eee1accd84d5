import type { ReactNode } from "react";

const STEPS = [
  ["Add the camera", "yonder feed add NAME --url rtsp://192.0.2.7/main"],
  ["Add where it goes", "yonder destination add NAME --server rtmp://ingest.example.net/live --key-stdin"],
  ["Tie them together", "yonder relay add NAME --feed FEED --to DESTINATION"],
  ["Start it", "yonder relay start NAME"],
] as const;

/** Nothing is set up yet: the way to the first line. */
export function NoLines(): ReactNode {
  return (
    <section className="max-w-2xl">
      <h1 className="text-[26px] leading-tight font-[680]">No lines yet</h1>
      <p className="mt-1 text-quiet">A line is a camera and the platforms that show it. The first one takes four steps.</p>
      <ol className="mt-5 grid gap-3">
        {STEPS.map(([title, command], at) => (
          <li key={title} className="rounded-[10px] border border-hair bg-card px-4 py-3">
            <strong className="font-[650]">
              {at + 1}. {title}
            </strong>
            <code className="mt-1 block text-[13px] break-all text-quiet">{command}</code>
          </li>
        ))}
      </ol>
    </section>
  );
}
