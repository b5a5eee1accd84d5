// @vitest-environment jsdom
import { act, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

import type { PreviewEvent } from "../../api/types";
import { cause } from "../../test/railway";
import { draw } from "../../test/render";
import { PreviewDialog } from "./PreviewDialog";

class FakeSocket {
  static last: FakeSocket | undefined;
  binaryType = "";
  closed = false;
  onmessage: ((message: MessageEvent) => void) | null = null;
  onclose: (() => void) | null = null;

  constructor(readonly url: string) {
    FakeSocket.last = this;
  }

  close(): void {
    this.closed = true;
  }

  say(event: PreviewEvent): void {
    act(() => this.onmessage?.(new MessageEvent("message", { data: JSON.stringify(event) })));
  }
}

class FakeBuffer extends EventTarget {
  updating = false;
  buffered = { length: 0 };
  appended: ArrayBuffer[] = [];
  types: string[] = [];

  appendBuffer(data: ArrayBuffer): void {
    this.appended.push(data);
  }

  changeType(type: string): void {
    this.types.push(type);
  }
}

class FakeSource extends EventTarget {
  static last: FakeSource | undefined;
  readyState = "closed";
  buffer = new FakeBuffer();

  constructor() {
    super();
    FakeSource.last = this;
  }

  static isTypeSupported(type: string): boolean {
    return !type.includes("hvc1");
  }

  addSourceBuffer(): FakeBuffer {
    return this.buffer;
  }

  open(): void {
    this.readyState = "open";
    this.dispatchEvent(new Event("sourceopen"));
  }
}

beforeEach(() => {
  vi.stubGlobal("WebSocket", FakeSocket);
  vi.stubGlobal("MediaSource", FakeSource);
  vi.stubGlobal("URL", Object.assign(URL, { createObjectURL: () => "blob:x", revokeObjectURL: () => undefined }));
  vi.spyOn(HTMLMediaElement.prototype, "play").mockResolvedValue();
  vi.spyOn(HTMLMediaElement.prototype, "load").mockReturnValue();
});

afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

async function opened(): Promise<{ socket: FakeSocket; source: FakeSource }> {
  draw(<PreviewDialog feed="Summit Station" trigger={<button>Watch</button>} />);
  await userEvent.setup().click(screen.getByRole("button", { name: "Watch" }));
  const [socket, source] = [FakeSocket.last, FakeSource.last];
  if (socket === undefined || source === undefined) {
    throw new Error("nothing was opened");
  }
  act(() => source.open());
  return { socket, source };
}

test("segments are played in order once their type is known", async () => {
  const { socket, source } = await opened();
  expect(socket.url).toMatch(/^ws:.*\/feeds\/Summit%20Station\/preview$/);
  expect(screen.getByRole("status").textContent).toContain("Waiting");
  socket.say({ kind: "type", mime: 'video/mp4; codecs="avc1.64001f"' });
  const [first, second] = [new ArrayBuffer(1), new ArrayBuffer(2)];
  act(() => socket.onmessage?.(new MessageEvent("message", { data: first })));
  source.buffer.updating = true;
  act(() => socket.onmessage?.(new MessageEvent("message", { data: second })));
  expect(source.buffer.appended).toEqual([first]);
  source.buffer.updating = false;
  act(() => void source.buffer.dispatchEvent(new Event("updateend")));
  act(() => socket.onmessage?.(new MessageEvent("message", { data: new ArrayBuffer(3) })));
  expect(source.buffer.appended.map((data) => data.byteLength)).toEqual([1, 2, 3]);
  socket.say({ kind: "type", mime: 'video/mp4; codecs="avc1.640032"' });
  expect(source.buffer.types).toHaveLength(1);
});

test("another type waits until the segment before it was taken, and the same type changes nothing", async () => {
  const { socket, source } = await opened();
  socket.say({ kind: "type", mime: 'video/mp4; codecs="avc1.64001f"' });
  socket.say({ kind: "type", mime: 'video/mp4; codecs="avc1.64001f"' });
  source.buffer.updating = true;
  socket.say({ kind: "type", mime: 'video/mp4; codecs="avc1.640032"' });
  act(() => socket.onmessage?.(new MessageEvent("message", { data: new ArrayBuffer(1) })));
  expect([source.buffer.types, source.buffer.appended]).toEqual([[], []]);
  source.buffer.updating = false;
  act(() => void source.buffer.dispatchEvent(new Event("updateend")));
  expect(source.buffer.types).toEqual(['video/mp4; codecs="avc1.640032"']);
  expect(source.buffer.appended).toHaveLength(1);
});

test("a codec that the browser does not play is reported, not shown as a black picture", async () => {
  const { socket } = await opened();
  socket.say({ kind: "type", mime: 'video/mp4; codecs="hvc1.1.6.L93.90"' });
  expect(screen.getByRole("status").textContent).toContain("cannot play video/mp4");
  expect(socket.closed).toBe(true);
});

test("an end tells its cause, and closing hangs up", async () => {
  const { socket } = await opened();
  socket.say({ kind: "ended", cause: cause() });
  expect(screen.getByRole("status").textContent).toBe("It does not answer. Look.");
  await userEvent.setup().click(screen.getByRole("button", { name: "Close" }));
  expect(socket.closed).toBe(true);
  expect(screen.queryByRole("dialog")).toBeNull();
});

test("a browser without any media source says so, and nothing fails", async () => {
  vi.stubGlobal("MediaSource", undefined);
  draw(<PreviewDialog feed="Summit Station" trigger={<button>Watch</button>} />);
  await userEvent.setup().click(screen.getByRole("button", { name: "Watch" }));
  expect((await screen.findByRole("status")).textContent).toContain("cannot play");
});

test("a buffer that refuses a segment ends the preview instead of failing the page", async () => {
  const { socket, source } = await opened();
  socket.say({ kind: "type", mime: 'video/mp4; codecs="avc1.64001f"' });
  vi.spyOn(source.buffer, "appendBuffer").mockImplementation(() => {
    throw new DOMException("The element has an error.", "InvalidStateError");
  });
  act(() => socket.onmessage?.(new MessageEvent("message", { data: new ArrayBuffer(1) })));
  expect(screen.getByRole("status").textContent).toContain("has ended");
  expect(socket.closed).toBe(true);
});
