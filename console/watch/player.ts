import type Hls from "hls.js";

/** Player of a live stream in a video element. */
export type Player = {
  /** Ends the playback and releases the element. */
  stop: () => void;
};

type Options = {
  video: HTMLVideoElement;
  playlist: string;
  /** Called once when the playback has failed and has to begin again. */
  onFailure: () => void;
};

const NATIVE = "application/vnd.apple.mpegurl";
/** Target durations that playback stays behind the newest segment. */
const LIVE_SYNC_SEGMENTS = 1.5;
/** Delay beyond which playback skips forward, in target durations. */
const MAX_DELAY_SEGMENTS = 4;

/** Begins playback: by the player library, or natively in browsers without media source extensions. */
export async function play(options: Options): Promise<Player> {
  const library = await import("hls.js/light");
  return library.default.isSupported() ? playByLibrary(library.default, options) : playNatively(options);
}

function playByLibrary(Library: typeof Hls, { video, playlist, onFailure }: Options): Player {
  const hls = new Library({
    liveSyncDurationCount: LIVE_SYNC_SEGMENTS,
    liveMaxLatencyDurationCount: MAX_DELAY_SEGMENTS,
    maxLiveSyncPlaybackRate: 1.1,
    backBufferLength: 30,
  });
  const stop = () => hls.destroy();
  hls.on(Library.Events.ERROR, (_, error) => {
    if (!error.fatal) {
      return;
    }
    if (error.type === Library.ErrorTypes.MEDIA_ERROR && error.details !== Library.ErrorDetails.BUFFER_APPEND_ERROR) {
      hls.recoverMediaError();
      return;
    }
    stop();
    onFailure();
  });
  hls.on(Library.Events.MANIFEST_PARSED, () => begin(video));
  hls.loadSource(playlist);
  hls.attachMedia(video);
  return { stop };
}

function playNatively({ video, playlist, onFailure }: Options): Player {
  if (video.canPlayType(NATIVE) === "") {
    throw new Error("This browser does not play live video.");
  }
  const ended = () => {
    stop();
    onFailure();
  };
  const stop = () => {
    video.removeEventListener("error", ended);
    video.removeEventListener("ended", ended);
    video.removeAttribute("src");
    video.load();
  };
  video.addEventListener("error", ended);
  video.addEventListener("ended", ended);
  video.src = playlist;
  begin(video);
  return { stop };
}

/** Plays without sound, which browsers allow without a gesture. A refusal leaves the controls to the viewer. */
function begin(video: HTMLVideoElement): void {
  video.play().catch(() => undefined);
}
