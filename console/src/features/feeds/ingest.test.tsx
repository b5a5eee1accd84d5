// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";

import type { Feed, RevealedIngest } from "../../api/types";
import { keptFeed } from "../../test/records";
import { draw, fakeApi } from "../../test/render";
import { EncoderAccessDialog } from "./components/EncoderAccessDialog";
import { EncoderCard } from "./components/EncoderCard";
import { IngestForm } from "./components/IngestForm";
import { RekeyFeedDialog } from "./components/RekeyFeedDialog";

function published(change: Partial<Feed> = {}): Feed {
  return keptFeed("Bandstand", {
    url: "",
    user: null,
    has_password: false,
    state: "waiting",
    ingest: { key_set_at: "2026-11-30T12:00:00Z", former_key_until: null, has_passphrase: true, key_length: 256 },
    ...change,
  });
}

const KEY = "46gq-yh7n-rg4q";
const SERVER = "rtmp://192.0.2.2:1935/live";
const ACCESS: RevealedIngest = {
  key: KEY,
  rtmp: { server: SERVER, key: KEY, joined: `${SERVER}/${KEY}` },
  rtmps: null,
  srt: { address: `srt://192.0.2.2:9000?streamid=${KEY}&pbkeylen=32`, passphrase: "three lamps", key_length: 256 },
  certificate: null,
};

test("the card shows the encoder that publishes", () => {
  fakeApi(() => ({ status: 200, body: null }));
  const publisher = {
    protocol: "srt",
    address: "192.0.2.9:4000",
    software: "Fellside 2",
    encrypted: true,
    since: "2026-11-30T12:00:00Z",
    rtt_ms: 41,
  };
  draw(<EncoderCard feed={published()} publisher={publisher} />);
  for (const text of ["Fellside 2", "192.0.2.9:4000", "SRT, encrypted", "41 ms", "encrypted, 256 bits"]) {
    expect(screen.getByText(text)).toBeTruthy();
  }
});

test("server and key are revealed after confirmation, apart, joined and as a QR code", async () => {
  const calls = fakeApi(() => ({ status: 200, body: ACCESS }));
  const user = userEvent.setup();
  draw(<EncoderAccessDialog feed={published()} trigger={<button>Connect</button>} />);
  await user.click(screen.getByRole("button", { name: "Connect" }));
  expect(calls).toHaveLength(0);
  await user.click(screen.getByRole("button", { name: "Reveal server and key" }));
  expect(calls.map(({ method, path }) => [method, path])).toEqual([["POST", "/api/v1/feeds/Bandstand/reveal"]]);
  expect((await screen.findByLabelText("Server")).textContent).toBe(SERVER);
  expect(screen.getByLabelText("Stream key").textContent).toBe(KEY);
  expect(screen.getByTitle("QR code of the address with the key")).toBeTruthy();
  await user.click(screen.getByRole("tab", { name: "SRT" }));
  expect(screen.getByLabelText("Passphrase, 256 bits").textContent).toBe("three lamps");
});

test("without listeners the dialog names the options that start them", async () => {
  fakeApi(() => ({ status: 200, body: { ...ACCESS, rtmp: null, srt: null } }));
  const user = userEvent.setup();
  draw(<EncoderAccessDialog feed={published()} trigger={<button>Connect</button>} />);
  await user.click(screen.getByRole("button", { name: "Connect" }));
  await user.click(screen.getByRole("button", { name: "Reveal server and key" }));
  expect(await screen.findByText(/--ingest-rtmp/)).toBeTruthy();
});

test("a new encoder is sent with what was typed and nothing else", async () => {
  const calls = fakeApi(() => ({ status: 201, body: published() }));
  const done = vi.fn();
  const user = userEvent.setup();
  draw(<IngestForm onDone={done} />);
  await user.type(screen.getByLabelText("Name"), "Bandstand");
  await user.selectOptions(screen.getByLabelText("Length of the SRT key"), "256 bits");
  await user.click(screen.getByRole("button", { name: "Save encoder" }));
  expect(calls[0]?.body).toEqual({ name: "Bandstand", ingest: true, key_length: 256 });
  expect(done).toHaveBeenCalledOnce();
});

test("a change of an encoder sends what differs", async () => {
  const calls = fakeApi(() => ({ status: 200, body: published() }));
  const user = userEvent.setup();
  draw(<IngestForm feed={published()} onDone={() => undefined} />);
  await user.type(screen.getByLabelText("Passphrase for SRT"), "four lamps at night");
  await user.click(screen.getByRole("button", { name: "Save" }));
  expect(calls.map(({ method, body }) => [method, body])).toEqual([["PATCH", { passphrase: "four lamps at night" }]]);
});

test("a new key keeps the present one valid for the chosen time", async () => {
  const calls = fakeApi(() => ({ status: 200, body: published() }));
  const user = userEvent.setup();
  draw(<RekeyFeedDialog feed={published()} trigger={<button>New key</button>} />);
  await user.click(screen.getByRole("button", { name: "New key" }));
  const dialog = within(screen.getByRole("dialog"));
  await user.selectOptions(dialog.getByLabelText("The present key is valid"), "for an hour");
  await user.click(dialog.getByRole("button", { name: "Replace the key" }));
  expect(calls[0]?.body).toEqual({ grace_s: 3600 });
});
