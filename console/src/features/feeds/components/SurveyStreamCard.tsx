import type { ReactNode } from "react";

import type { SurveyStream } from "../../../api/types";
import { grouped, rate } from "../../../lib/format";
import { Facts } from "../../../ui/Facts";
import { CauseNote } from "../../lines";

type Props = { id: string; name: "main" | "sub"; stream: SurveyStream; done: boolean };

/** One stream of a survey: its picture and its measured facts. */
export function SurveyStreamCard({ id, name, stream, done }: Props): ReactNode {
  const step = stream.steps.at(-1);
  return (
    <section aria-label={`${name} stream`} className="min-w-0 overflow-hidden rounded-[10px] border border-hair">
      <div className="grid aspect-video place-items-center bg-hair text-[13px] text-quiet">
        {stream.has_still ? (
          <img
            src={`/api/v1/surveys/${encodeURIComponent(id)}/${name}.jpg`}
            alt={`Picture of the ${name} stream`}
            className="size-full object-contain"
          />
        ) : (
          <span className="px-4 text-center">
            {stream.no_still ?? (stream.cause != null ? "No frame was received." : (step?.name ?? "Dialing …"))}
          </span>
        )}
      </div>
      <div className="grid gap-2 p-3">
        <p className="flex items-baseline justify-between gap-3">
          <strong className="font-[650]">{name === "main" ? "Main stream" : "Sub stream"}</strong>
          <span className="text-[12.5px] text-quiet">
            {done
              ? stream.shared
                ? "shared with the relay"
                : (stream.transport?.toUpperCase() ?? "")
              : (step?.name ?? "dialing")}
          </span>
        </p>
        <p className="text-[12.5px] break-all text-quiet">{stream.address}</p>
        {stream.cause != null && <CauseNote note={{ cause: stream.cause, about: [name] }} />}
        <Measured stream={stream} />
      </div>
    </section>
  );
}

function Measured({ stream }: { stream: SurveyStream }): ReactNode {
  const { video, audio, measured } = stream;
  const rows: [string, string][] = [];
  if (video != null) {
    rows.push(["Video", `${video.codec} ${video.profile} ${video.level.toFixed(1)}, ${video.width}×${video.height}`]);
  }
  if (measured != null) {
    const declared = measured.declared_fps == null ? "" : `, ${measured.declared_fps} declared`;
    rows.push(["Frame rate", measured.fps == null ? "—" : `${measured.fps.toFixed(2)} frames/s${declared}`]);
    rows.push(["Bit rate", `${rate(measured.video_kbps)}, peak second ${rate(measured.peak_kbps)}`]);
    rows.push(["Keyframes", keyframes(measured)]);
    rows.push(["B-frames", measured.b_frames ? "yes" : "no"]);
    // A published feed has no RTP packets.
    if (measured.packets > 0) {
      rows.push([
        "Packets",
        `${grouped(measured.packets)}, ${grouped(measured.packets_lost)} lost, ${grouped(measured.packets_reordered)} out of order`,
      ]);
    }
    if ((measured.drops?.length ?? 0) > 0) {
      rows.push([
        "Dropped",
        measured.drops?.map((drop) => `${grouped(drop.count)} ${drop.reason.replaceAll("-", " ")}`).join(", ") ?? "",
      ]);
    }
    if (measured.packets > 0) {
      rows.push(["Jitter", `${measured.jitter_ms.toFixed(1)} ms`]);
    }
    if (measured.drift_ppm != null) {
      rows.push(["Clock", `${measured.drift_ppm.toFixed(0)} ppm against the service`]);
    }
  }
  if (audio != null) {
    rows.push([
      "Audio",
      `${audio.codec}, ${audio.rate_hz / 1000} kHz, ${audio.channels === 1 ? "mono" : `${audio.channels} channels`}`,
    ]);
  } else if (video != null) {
    rows.push(["Audio", "none"]);
  }
  if (stream.first_picture_ms != null) {
    rows.push(["First frame", `after ${grouped(stream.first_picture_ms)} ms`]);
  }
  return <Facts rows={rows} strong />;
}

function keyframes(measured: NonNullable<SurveyStream["measured"]>): string {
  const { keyframe_min_s: least, keyframe_median_s: middle, keyframe_max_s: most } = measured;
  if (middle == null) {
    return "fewer than two received";
  }
  const same = least === most;
  return same
    ? `every ${middle.toFixed(2)} s`
    : `every ${middle.toFixed(2)} s, ${least?.toFixed(2)} to ${most?.toFixed(2)}`;
}
