import "./watch.css";
import { play, type Player } from "./player";
import { hostOf, messageOf, readState, type SignpostState } from "./state";

/** Interval of requests for the state, in milliseconds. */
const POLL_MS = 5_000;
const HIDDEN_POLL_MS = 20_000;
/** Pause before playback begins again, in milliseconds. */
const RETRY_MS = 2_000;
/** Time without progress after which playback begins again, in milliseconds. */
const MAX_STALL_MS = 12_000;

/** Returns the element of a kind with an ID. */
function element<Kind extends HTMLElement>(id: string, kind: abstract new () => Kind): Kind {
  const found = document.getElementById(id);
  if (!(found instanceof kind)) {
    throw new Error(`no element ${id}`);
  }
  return found;
}

/** Page of a signpost: shows its state, and plays the picture while there is one. */
class Page {
  private readonly base = document.body.dataset["base"] ?? "";
  private readonly video = element("video", HTMLVideoElement);
  private readonly message = element("message", HTMLElement);
  private readonly link = element("link", HTMLAnchorElement);
  private player: Player | null = null;
  private isStarting = false;
  private retryAt = 0;
  private progress = { time: 0, at: Date.now() };
  /** Number of this view, so that viewers behind one address count apart. */
  private readonly session = crypto.getRandomValues(new Uint32Array(2)).join("");

  async run(): Promise<never> {
    for (;;) {
      const state = await this.readState();
      if (state !== null) {
        this.show(state);
      }
      const wait = document.hidden ? HIDDEN_POLL_MS : POLL_MS;
      await new Promise((resolve) => setTimeout(resolve, wait * (0.9 + Math.random() * 0.2)));
    }
  }

  private async readState(): Promise<SignpostState | null> {
    try {
      const response = await fetch(`${this.base}state`, { signal: AbortSignal.timeout(POLL_MS * 2) });
      if (response.status === 404) {
        return { state: "paused", title: document.title, playlist: null, leads_to: null, expected: null };
      }
      return response.ok ? readState(await response.json()) : null;
    } catch {
      return null;
    }
  }

  private show(state: SignpostState): void {
    document.body.dataset["state"] = state.state;
    const message = messageOf(state);
    this.message.textContent = message ?? "";
    this.message.hidden = message === null;
    const host = state.leads_to === null ? null : hostOf(state.leads_to);
    this.link.hidden = host === null || (state.state === "live" && state.playlist !== null);
    if (host !== null && state.leads_to !== null) {
      this.link.href = state.leads_to;
      this.link.textContent = `Watch at ${host}`;
    }
    if (state.state === "live" && state.playlist !== null) {
      this.keepPlaying(state.playlist);
    } else {
      this.stop();
    }
  }

  private keepPlaying(playlist: string): void {
    this.video.hidden = false;
    if (this.player === null) {
      void this.start(playlist);
      return;
    }
    const { video } = this;
    if (video.currentTime !== this.progress.time || video.paused) {
      this.progress = { time: video.currentTime, at: Date.now() };
    } else if (Date.now() - this.progress.at > MAX_STALL_MS) {
      this.fail();
    }
  }

  private async start(playlist: string): Promise<void> {
    if (this.isStarting || Date.now() < this.retryAt) {
      return;
    }
    this.isStarting = true;
    this.progress = { time: -1, at: Date.now() };
    try {
      const url = `${this.base}${playlist}?viewer=${this.session}`;
      this.player = await play({ video: this.video, playlist: url, onFailure: () => this.fail() });
    } catch (error) {
      this.message.textContent = error instanceof Error ? error.message : "The picture cannot be played.";
      this.message.hidden = false;
    } finally {
      this.isStarting = false;
    }
  }

  /** Lets the playback begin again. */
  private fail(): void {
    this.player?.stop();
    this.player = null;
    this.retryAt = Date.now() + RETRY_MS;
  }

  private stop(): void {
    this.player?.stop();
    this.player = null;
    this.video.hidden = true;
  }
}

void new Page().run();
