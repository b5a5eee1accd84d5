import type { CauseFacts, PreviewEvent } from "../../api/types";

/** State of a preview. */
export type PreviewState =
  | { kind: "waiting" }
  | { kind: "playing" }
  | { kind: "unsupported"; mime: string }
  | { kind: "ended"; cause: CauseFacts | null };

/** Delay in seconds from which playback skips forward. */
const MAX_DELAY_S = 3;
/** Delay in seconds after a skip. */
const DELAY_S = 0.4;
/** Retention of played media, in seconds. */
const KEEP_S = 20;

/** Media source of the browser; newer phones have only the managed one, older ones none. */
function mediaSource(): typeof MediaSource | undefined {
  const all = globalThis as { ManagedMediaSource?: typeof MediaSource; MediaSource?: typeof MediaSource };
  return all.ManagedMediaSource ?? all.MediaSource;
}

/** Plays the service's live segments in a video element until the returned function is called. */
export function playPreview(video: HTMLVideoElement, url: string, onState: (state: PreviewState) => void): () => void {
  const Source = mediaSource();
  if (Source === undefined) {
    onState({ kind: "unsupported", mime: "live segments" });
    return () => undefined;
  }
  const source = new Source();
  // A managed source plays only where no other device can take the picture over.
  video.disableRemotePlayback = true;
  const address = URL.createObjectURL(source);
  /** Queue of segments and types that are not played yet. */
  const queue: (ArrayBuffer | string)[] = [];
  let buffer: SourceBuffer | undefined;
  let playedType = "";
  let over = false;

  /** Appends the next segment once the buffer is ready. */
  const feed = () => {
    if (source.readyState !== "open" || buffer?.updating === true) {
      return;
    }
    if (buffer !== undefined) {
      const behind = video.currentTime - KEEP_S;
      if (buffer.buffered.length > 0 && buffer.buffered.start(0) < behind - KEEP_S) {
        buffer.remove(0, behind);
        return;
      }
    }
    const next = queue[0];
    if (typeof next === "string") {
      queue.shift();
      takeType(next);
      feed();
    } else if (next !== undefined && buffer !== undefined) {
      queue.shift();
      append(buffer, next);
    }
  };

  /** A buffer that is full, or of an element that has failed, refuses what comes: the preview ends, and can be opened again. */
  const append = (to: SourceBuffer, segment: ArrayBuffer) => {
    try {
      to.appendBuffer(segment);
    } catch {
      over = true;
      queue.length = 0;
      socket.close();
      onState({ kind: "ended", cause: null });
    }
  };

  const takeType = (mime: string) => {
    if (!Source.isTypeSupported(mime)) {
      onState({ kind: "unsupported", mime });
      // Further messages would only queue up.
      over = true;
      socket.close();
      queue.length = 0;
      return;
    }
    if (buffer === undefined) {
      buffer = source.addSourceBuffer(mime);
      buffer.addEventListener("updateend", keepUp);
    } else if (mime !== playedType) {
      buffer.changeType(mime);
    }
    playedType = mime;
  };

  /** Live means near the end of what has come. */
  const keepUp = () => {
    feed();
    const ranges = buffer?.buffered;
    if (ranges === undefined || ranges.length === 0) {
      return;
    }
    const end = ranges.end(ranges.length - 1);
    const start = ranges.start(ranges.length - 1);
    if (video.currentTime < start || end - video.currentTime > MAX_DELAY_S) {
      video.currentTime = Math.max(start, end - DELAY_S);
    }
    // A muted video may always be played.
    void video.play().catch(() => undefined);
  };

  const socket = new WebSocket(url);
  socket.binaryType = "arraybuffer";
  socket.onmessage = (message: MessageEvent<ArrayBuffer | string>) => {
    if (typeof message.data !== "string") {
      queue.push(message.data);
      feed();
      return;
    }
    const event = JSON.parse(message.data) as PreviewEvent;
    if (event.kind === "type") {
      queue.push(event.mime);
      feed();
    } else {
      over = true;
      onState({ kind: "ended", cause: event.cause ?? null });
    }
  };
  socket.onclose = () => {
    if (!over) {
      onState({ kind: "ended", cause: null });
    }
  };
  const onPlaying = () => onState({ kind: "playing" });
  video.addEventListener("playing", onPlaying);
  source.addEventListener("sourceopen", feed);
  video.src = address;

  return () => {
    over = true;
    socket.close();
    video.removeEventListener("playing", onPlaying);
    video.removeAttribute("src");
    video.load();
    URL.revokeObjectURL(address);
  };
}

/** Address of the preview of a feed. */
export function previewUrl(feed: string, page: Location = window.location): string {
  const scheme = page.protocol === "https:" ? "wss:" : "ws:";
  return `${scheme}//${page.host}/api/v1/feeds/${encodeURIComponent(feed)}/preview`;
}
