// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";

import type { FoundCamera, Pattern, Survey, SurveyStream } from "../../api/types";
import { cause } from "../../test/railway";
import { keptFeed } from "../../test/records";
import { draw, fakeApi } from "../../test/render";
import { FeedForm } from "./components/FeedForm";
import { FindPanel } from "./components/FindPanel";
import { PatternFill } from "./components/PatternFill";
import { SurveyPanel } from "./components/SurveyPanel";

test("a new feed is sent with what was typed and nothing else", async () => {
  const calls = fakeApi(() => ({ status: 201, body: keptFeed("Summit") }));
  const done = vi.fn();
  const user = userEvent.setup();
  draw(<FeedForm draft={{ name: "Summit", url: "rtsp://192.0.2.7/main" }} onDone={done} />);
  await user.type(screen.getByLabelText("User name"), "rail");
  await user.type(screen.getByLabelText("Password"), "a password");
  await user.click(screen.getByRole("button", { name: "Save camera" }));
  expect(calls[0]?.body).toEqual({
    name: "Summit",
    url: "rtsp://192.0.2.7/main",
    transport: "auto",
    user: "rail",
    password: "a password",
  });
  expect(done).toHaveBeenCalledOnce();
});

test("a change sends what differs; a kept password is neither shown nor sent", async () => {
  const calls = fakeApi(() => ({ status: 200, body: keptFeed("Summit") }));
  const user = userEvent.setup();
  draw(<FeedForm feed={keptFeed("Summit")} onDone={() => undefined} />);
  expect(screen.getByLabelText<HTMLInputElement>("Password").value).toBe("");
  await user.selectOptions(screen.getByLabelText("Transport"), "UDP, datagrams");
  await user.type(screen.getByLabelText("Site"), "Summit");
  await user.click(screen.getByRole("button", { name: "Save" }));
  expect(calls.map(({ method, path, body }) => [method, path, body])).toEqual([
    ["PATCH", "/api/v1/feeds/Summit", { site: "Summit", transport: "udp" }],
  ]);
});

const CAMERA: FoundCamera = {
  name: "Viaduct",
  host: "192.0.2.9",
  service: "http://192.0.2.9/onvif",
  model: "Fellside 2",
  firmware: "",
  clock_ahead_s: -90,
  channels: [
    {
      name: "viaduct",
      streams: [
        {
          profile: "a",
          codec: "H.264",
          width: 1280,
          height: 720,
          fps: 25,
          kbps: 2_000,
          keyframe_interval_s: 2,
          audio: null,
          address: "rtsp://192.0.2.9/main",
          reported_address: "rtsp://10.0.0.4/main",
        },
        {
          profile: "b",
          codec: "H.264",
          width: 640,
          height: 360,
          fps: 12,
          kbps: null,
          keyframe_interval_s: null,
          audio: null,
          address: "rtsp://192.0.2.9/sub",
          reported_address: null,
        },
      ],
    },
  ],
  problem: null,
  needs_sign_in: false,
};

test("found cameras are offered with both addresses, and taken with main and sub", async () => {
  const calls = fakeApi(() => ({ status: 200, body: [CAMERA] }));
  const chosen = vi.fn();
  const user = userEvent.setup();
  draw(<FindPanel onChoose={chosen} />);
  await user.type(screen.getByLabelText("Hosts"), "192.0.2.9");
  await user.type(screen.getByLabelText("User name"), "rail");
  await user.click(screen.getByRole("button", { name: "Search these hosts" }));
  expect(await screen.findByText(/The camera’s clock is 90 s behind the clock of the service/)).toBeTruthy();
  expect(screen.getByText(/rtsp:\/\/10\.0\.0\.4\/main, another host than the one that replied/)).toBeTruthy();
  expect(calls[0]?.body).toEqual({ at: "192.0.2.9", user: "rail" });
  await user.click(screen.getByRole("button", { name: "Add feed" }));
  expect(chosen).toHaveBeenCalledWith({
    name: "Viaduct",
    url: "rtsp://192.0.2.9/main",
    sub_url: "rtsp://192.0.2.9/sub",
    user: "rail",
    device: "http://192.0.2.9/onvif",
  });
});

test("a search has no password; cameras that need one are selected first", async () => {
  const locked = (host: string): FoundCamera => ({
    ...CAMERA,
    name: host,
    host,
    service: `http://${host}:8080/onvif/device_service`,
    channels: [],
    problem: "It asks for a user name and password.",
    needs_sign_in: true,
  });
  const found = [
    [locked("192.0.2.9"), locked("192.0.2.66")],
    [{ ...CAMERA, service: "http://192.0.2.9:8080/onvif/device_service" }],
  ];
  const calls = fakeApi(() => ({ status: 200, body: found.shift() ?? [] }));
  const user = userEvent.setup();
  draw(<FindPanel onChoose={() => undefined} />);
  expect(screen.getByLabelText("Password")).toHaveProperty("disabled", true);
  await user.click(screen.getByRole("button", { name: "Search" }));
  const card = await screen.findByRole("region", { name: "192.0.2.9:8080" });
  await user.click(within(card).getByRole("checkbox"));
  await user.type(screen.getByLabelText("User name"), "rail");
  await user.type(screen.getByLabelText("Password"), "planted");
  await user.click(screen.getByRole("button", { name: "Search these hosts" }));
  expect(await screen.findByRole("region", { name: "Viaduct" })).toBeTruthy();
  expect(screen.getByRole("region", { name: "192.0.2.66:8080" })).toBeTruthy();
  expect(calls.map((call) => call.body)).toEqual([{}, { at: "192.0.2.9:8080", user: "rail", password: "planted" }]);
});

test("where no camera answers, the reasons are shown", async () => {
  fakeApi(() => ({ status: 200, body: [] }));
  draw(<FindPanel onChoose={() => undefined} />);
  await userEvent.setup().click(screen.getByRole("button", { name: "Search" }));
  expect(await screen.findByText("No cameras found")).toBeTruthy();
});

const RECORDER: Pattern = {
  name: "Cairn recorder",
  template: "rtsp://{host}/ch{channel}/{stream}",
  note: "A recorder with many channels.",
  placeholders: [
    { name: "host", kind: "text" },
    { name: "channel", kind: "number", min: 1, max: 32, offset: 0, width: 2 },
    {
      name: "stream",
      kind: "choice",
      choices: [
        { word: "main", value: "0" },
        { word: "sub", value: "1" },
      ],
    },
  ],
};

test.each([
  ["1-8", { set: { host: "192.0.2.40" }, channels: "1-8" }],
  ["3", { set: { host: "192.0.2.40", channel: "3" } }],
])("a pattern is filled in for channels %s", async (channels, expected) => {
  const calls = fakeApi((call) =>
    call.method === "GET" ? { status: 200, body: [RECORDER] } : { status: 201, body: [keptFeed("Yard 1")] },
  );
  const user = userEvent.setup();
  draw(<PatternFill onDone={() => undefined} />);
  await user.type(await screen.findByLabelText("Name"), "Yard");
  await user.type(screen.getByLabelText("host"), "192.0.2.40");
  await user.type(screen.getByLabelText("Channels"), channels);
  expect(screen.queryByLabelText("stream")).toBeNull();
  await user.click(screen.getByRole("button", { name: "Save feeds" }));
  expect(calls.at(-1)?.body).toMatchObject({ name: "Yard", ...expected });
});

function stream(change: Partial<SurveyStream>): SurveyStream {
  return {
    address: "rtsp://192.0.2.7/main",
    cause: null,
    steps: [],
    shared: false,
    transport: "tcp",
    video: null,
    audio: null,
    offered: [],
    measured: null,
    first_picture_ms: null,
    has_still: false,
    no_still: null,
    ...change,
  };
}

test("a survey shows its progress, its facts, and why a stream gives nothing", async () => {
  const begun: Survey = {
    id: "7",
    feed: "Summit",
    done: false,
    main: stream({ steps: [{ name: "connected", after_ms: 3 }] }),
    sub: null,
    advice: [],
  };
  fakeApi(() => ({ status: 202, body: begun }));
  const id = vi.fn();
  const { client } = draw(<SurveyPanel of={{ feed: "Summit" }} onBegun={id} />);
  await userEvent.setup().click(screen.getByRole("button", { name: "Run survey" }));
  expect((await screen.findAllByText("connected")).length).toBeGreaterThan(0);
  expect(id).toHaveBeenCalledWith("7");
  const video = {
    codec: "H.264",
    profile: "High",
    tier: null,
    level: 3.1,
    width: 1280,
    height: 720,
    declared_fps: 25,
    fps: 25,
    kbps: 1_800,
    keyframe_interval_s: 2,
  };
  client.setQueryData(["survey", "7"], {
    ...begun,
    done: true,
    main: stream({ video }),
    sub: stream({ cause: cause({ code: "feed.no-such-stream" }) }),
    advice: [{ code: "no-sound", about: "main", message: "No sound comes." }],
  });
  expect(await screen.findByText("H.264 High 3.1, 1280×720")).toBeTruthy();
  expect(screen.getByRole("region", { name: "sub stream" }).textContent).toContain("feed.no-such-stream");
  expect(screen.getByRole("region", { name: "Advice" }).textContent).toContain("Main stream. No sound comes.");
  expect(screen.getByRole("button", { name: "Repeat survey" })).toBeTruthy();
});
