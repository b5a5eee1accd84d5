// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import { draw, fakeApi } from "../../test/render";
import { EntryForm } from "./EntryForm";
import { sessionQuery } from "./queries";

function drawForm(code: string | null) {
  return draw(<EntryForm title="Sign in" lead="to see." action="Enter" code={code} />);
}

async function enter(): Promise<void> {
  const user = userEvent.setup();
  await user.type(screen.getByLabelText("Name"), "night desk");
  await user.type(screen.getByLabelText("Password"), "three lamps");
  await user.click(screen.getByRole("button", { name: "Enter" }));
}

test("signing in sends name and password once and remembers who it is", async () => {
  const calls = fakeApi(() => ({ status: 200, body: { person: "night desk", role: "admin", token: "t" } }));
  const { client } = drawForm(null);
  await enter();
  expect(calls.map(({ path, body }) => ({ path, body }))).toEqual([
    { path: "/api/v1/session", body: { name: "night desk", password: "three lamps" } },
  ]);
  expect(client.getQueryData(sessionQuery().queryKey)?.person).toBe("night desk");
});

test("a refused password is reported and leaves the field empty", async () => {
  fakeApi(() => ({ status: 401, body: { status: 401, code: "request.sign-in-refused", detail: "Wrong." } }));
  drawForm(null);
  await enter();
  expect((await screen.findByRole("alert")).textContent).toContain("request.sign-in-refused");
  expect(screen.getByLabelText<HTMLInputElement>("Password").value).toBe("");
  expect(screen.getByLabelText<HTMLInputElement>("Password").type).toBe("password");
});

test("setting up sends the code of the link along", async () => {
  const calls = fakeApi(() => ({ status: 200, body: { person: "night desk", role: "admin", token: "t" } }));
  drawForm("one-time");
  await enter();
  expect(calls[0]?.path).toBe("/api/v1/setup");
  expect(calls[0]?.body).toMatchObject({ code: "one-time" });
});
