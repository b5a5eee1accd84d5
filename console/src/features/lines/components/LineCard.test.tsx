// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import { cause, feed, push, relay } from "../../../test/railway";
import { draw, fakeApi } from "../../../test/render";
import { LineCard } from "./LineCard";

test("a line names its feed, its pushes and their states in words", () => {
  draw(
    <LineCard relay={relay("Summit", { pushes: [push("Bramble TV"), push("Marrow Hall", { state: "dialing" })] })} />,
  );
  const line = screen.getByRole("article", { name: "Summit" });
  expect(within(line).getByRole("heading").textContent).toBe("Summit");
  expect(within(line).getByText("flowing")).toBeTruthy();
  const hall = within(line).getByRole("listitem", { name: "Marrow Hall" });
  expect(within(hall).getByText("dialing")).toBeTruthy();
  expect(within(hall).getByText("resolving the name")).toBeTruthy();
});

test("a cause shows its side, sentence, next step and code, once", () => {
  const away = cause();
  const affected = relay("Summit", {
    feed: feed({ state: "waiting", cause: away, retry_in_s: 3.4 }),
    pushes: [push("Bramble TV", { state: "waiting", cause: away })],
  });
  draw(<LineCard relay={affected} />);
  expect(screen.getAllByText("Camera side.")).toHaveLength(1);
  expect(screen.getByText("It does not answer.")).toBeTruthy();
  expect(screen.getByText(/feed\.no-answer/)).toBeTruthy();
  expect(screen.getByText(/next attempt in 3 s/)).toBeTruthy();
});

test("probable causes are listed in their order, where there are any", async () => {
  const away = cause({ probable_causes: ["The port is not forwarded.", "RTSP is switched off."] });
  draw(<LineCard relay={relay("Summit", { feed: feed({ state: "waiting", cause: away }) })} />);
  await userEvent.setup().click(screen.getByText("Probable causes"));
  const reasons = screen.getAllByRole("listitem").map((item) => item.textContent);
  expect(reasons).toContain("The port is not forwarded.");
  expect(reasons.indexOf("The port is not forwarded.")).toBeLessThan(reasons.indexOf("RTSP is switched off."));
});

test("only a feed that flows can be watched", () => {
  draw(<LineCard relay={relay("Summit", { feed: feed({ state: "waiting" }) })} />);
  expect(screen.queryByRole("button", { name: "Watch Summit" })).toBeNull();
});

/** Opens the menu of the line and chooses. */
async function choose(user: ReturnType<typeof userEvent.setup>, what: string): Promise<void> {
  await user.click(screen.getByRole("button", { name: "Actions for Summit" }));
  await user.click(screen.getByRole("menuitem", { name: what }));
}

test("stopping asks, says what ends, and can be left", async () => {
  const calls = fakeApi(() => ({ status: 200, body: relay("Summit", { wanted: "off" }) }));
  const user = userEvent.setup();
  draw(<LineCard relay={relay("Summit", { pushes: [push("Bramble TV"), push("Marrow Hall")] })} />);
  await choose(user, "Stop …");
  const question = screen.getByRole("alertdialog", { name: "Stop Summit?" });
  expect(question.textContent).toContain("Bramble TV and Marrow Hall ends");
  await user.keyboard("{Escape}");
  expect(screen.queryByRole("alertdialog")).toBeNull();
  expect(calls).toHaveLength(0);
  await choose(user, "Stop …");
  await user.click(screen.getByRole("button", { name: "Stop the broadcast" }));
  expect(calls.map((call) => `${call.method} ${call.path}`)).toEqual(["POST /api/v1/relays/Summit/stop"]);
});

test("holding asks and says what is seen; resuming does not ask", async () => {
  const calls = fakeApi(() => ({ status: 200, body: relay("Summit", { wanted: "hold" }) }));
  const user = userEvent.setup();
  const first = draw(<LineCard relay={relay("Summit", { pushes: [push("Bramble TV")] })} />);
  await choose(user, "Hold …");
  const question = screen.getByRole("alertdialog", { name: "Hold Summit?" });
  expect(question.textContent).toContain("Viewers on Bramble TV see the holding picture");
  await user.click(screen.getByRole("button", { name: "Show the holding picture" }));
  first.unmount();
  draw(<LineCard relay={relay("Summit", { wanted: "hold", pushes: [push("Bramble TV", { state: "holding" })] })} />);
  await choose(user, "Resume");
  expect(calls.map((call) => `${call.method} ${call.path}`)).toEqual([
    "POST /api/v1/relays/Summit/hold",
    "POST /api/v1/relays/Summit/resume",
  ]);
});

test("who only looks is offered nothing that would be refused", async () => {
  const user = userEvent.setup();
  draw(<LineCard relay={relay("Summit", { wanted: "off" })} />, { role: "viewer" });
  expect(screen.queryByRole("button", { name: "Start" })).toBeNull();
  await user.click(screen.getByRole("button", { name: "Actions for Summit" }));
  expect(screen.getAllByRole("menuitem").map((item) => item.textContent)).toEqual(["Open", "Logbook"]);
});

test("the day is described in text as well", () => {
  const bands = [
    { state: "off", steps: 700 },
    { state: "flowing", steps: 730 },
    { state: "down", steps: 10 },
  ] as const;
  draw(<LineCard relay={relay("Summit")} bands={bands} />);
  expect(screen.getByRole("img", { name: "The last 24 hours: flowing for 730 min, down for 10 min" })).toBeTruthy();
});

test("a refusal of the service is shown on the relay", async () => {
  fakeApi(() => ({
    status: 404,
    body: { status: 404, code: "request.not-found", detail: "There is no relay.", hint: "List what there is." },
  }));
  const user = userEvent.setup();
  draw(
    <LineCard
      relay={relay("Summit", { wanted: "off", feed: feed({ state: "off" }), pushes: [push("A", { state: "off" })] })}
    />,
  );
  await user.click(screen.getByRole("button", { name: "Start" }));
  const alert = await screen.findByRole("alert");
  expect(alert.textContent).toBe("There is no relay. List what there is. · request.not-found");
});

test("what a preflight says is shown, and a start can be forced", async () => {
  const detail = "The preflight of Summit failed: Bramble TV: there is no stream key.";
  const problem = {
    type: "about:blank",
    title: "Conflict",
    status: 409,
    detail,
    code: "relay.preflight-failed",
    hint: null,
  };
  const calls = fakeApi(() => ({ status: 409, body: problem }));
  const user = userEvent.setup();
  draw(<LineCard relay={relay("Summit", { wanted: "off" })} />);
  await user.click(screen.getByRole("button", { name: "Start" }));
  expect(await screen.findByText(/there is no stream key/)).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Start anyway" }));
  expect(calls.map((call) => call.body)).toEqual([{ force: false }, { force: true }]);
});

test("a state that the disk does not take is marked as not stored", () => {
  draw(<LineCard relay={relay("Summit", { wanted: "off", wanted_unsaved: true })} />);
  expect(screen.getByText(/Not saved: the disk rejects writes/)).toBeTruthy();
});
