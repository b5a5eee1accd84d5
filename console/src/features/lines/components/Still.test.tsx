// @vitest-environment jsdom
import { act, fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

import type { FeedState } from "../../../api/types";
import { feed } from "../../../test/railway";
import { draw } from "../../../test/render";
import { Still } from "./Still";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

const VIDEO = {
  codec: "H.264",
  profile: "High",
  level: 4,
  width: 1280,
  height: 720,
  fps: 25,
  kbps: 900,
  keyframe_interval_s: 2,
};
const flowing = (change: Partial<FeedState> = {}) => feed({ name: "Fell / east", video: VIDEO, ...change });
const picture = () => screen.queryByRole("img", { name: "Latest picture of Fell / east" });

test("a feed that flows shows its picture, a new one each time that it began", () => {
  const { unmount } = draw(<Still feed={flowing()} />);
  expect(picture()?.getAttribute("src")).toBe(
    "/api/v1/feeds/Fell%20%2F%20east/still.jpg?since=2026-01-01T00%3A00%3A00Z",
  );
  unmount();
  draw(<Still feed={flowing({ since: "2026-01-02T00:00:00Z" })} />);
  expect(picture()?.getAttribute("src")).toContain("2026-01-02");
});

test.each([flowing({ state: "waiting" }), flowing({ video: null })])(
  "no camera is connected to for a still",
  (away) => {
    draw(<Still feed={away} />);
    expect(picture()).toBeNull();
  },
);

test("a picture that could not be had is asked for again after a while", () => {
  draw(<Still feed={flowing()} />);
  const first = picture();
  expect(first).not.toBeNull();
  fireEvent.error(first as HTMLElement);
  expect(picture()).toBeNull();
  act(() => void vi.advanceTimersByTime(9_000));
  expect(picture()).toBeNull();
  act(() => void vi.advanceTimersByTime(2_000));
  expect(picture()).not.toBeNull();
});
