// @vitest-environment jsdom
import { act, renderHook } from "@testing-library/react";
import { beforeEach, expect, test } from "vitest";

import { isOpen, keptDraft, useDraft } from "./draft";

beforeEach(() => window.localStorage.clear());

test("a draft outlives a reload until it is forgotten", () => {
  const first = renderHook(() => useDraft());
  act(() => first.result.current.change({ feed: "Summit", step: "survey" }));
  act(() => first.result.current.change({ to: ["Bramble TV"] }));
  const second = renderHook(() => useDraft());
  expect(second.result.current.draft).toMatchObject({ feed: "Summit", step: "survey", to: ["Bramble TV"] });
  act(() => second.result.current.forget());
  expect(keptDraft(window.localStorage).feed).toBe("");
});

test.each(["not json", "7", '{"step":"elsewhere"}', '{"step":"camera","feed":"a","name":"","survey":"","to":[7]}'])(
  "an invalid stored draft starts over: %s",
  (kept) => {
    window.localStorage.setItem("yonder-new-relay", kept);
    expect(keptDraft(window.localStorage)).toEqual({ step: "camera", feed: "", to: [], name: "", survey: "" });
  },
);

test("a step opens once what it builds upon is there", () => {
  const draft = { step: "camera" as const, feed: "", to: [], name: "", survey: "" };
  expect(["survey", "destination", "check"].map((step) => isOpen(draft, step as "survey"))).toEqual([
    false,
    false,
    false,
  ]);
  expect(isOpen({ ...draft, feed: "Summit" }, "destination")).toBe(true);
  expect(isOpen({ ...draft, feed: "Summit" }, "check")).toBe(false);
  expect(isOpen({ ...draft, feed: "Summit", to: ["A"] }, "check")).toBe(true);
});
