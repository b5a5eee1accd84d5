// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import { destination } from "../../test/records";
import { draw, fakeApi, type Call } from "../../test/render";
import { DestinationsPage } from "./DestinationsPage";
import { DestinationCard } from "./components/DestinationCard";

const KEY = "planted-stream-key-9Z";

/** An API that keeps what it is sent, or refuses it. */
function api(refuses: boolean): Call[] {
  return fakeApi((call) => {
    if (call.method === "GET") {
      return { status: 200, body: [] };
    }
    const problem = {
      status: 422,
      code: "request.invalid",
      detail: "The key is empty.",
      hint: "Copy it again.",
      field: "key",
    };
    const stored = { destination: destination("Night"), repairs: ["key: a blank was dropped"] };
    return refuses ? { status: 422, body: problem } : { status: 201, body: stored };
  });
}

async function paste(user: ReturnType<typeof userEvent.setup>): Promise<void> {
  await user.click(screen.getByRole("button", { name: "Add a destination" }));
  await user.type(screen.getByLabelText("Name"), "Night");
  await user.type(screen.getByLabelText("Server address"), " rtmp://ingest.example.net//live ");
  await user.type(screen.getByLabelText("Stream key"), ` ${KEY} `);
  await user.click(screen.getByRole("button", { name: "Save destination" }));
}

test("what is pasted goes as it comes, and what was put right is shown back without the key", async () => {
  const calls = api(false);
  const user = userEvent.setup();
  draw(<DestinationsPage />);
  await screen.findByText("No destinations yet");
  await paste(user);
  const sent = calls.find((call) => call.method === "POST")?.body;
  expect(sent).toMatchObject({
    name: "Night",
    server: " rtmp://ingest.example.net//live ",
    key: ` ${KEY} `,
    uplinks: [],
  });
  expect(sent).not.toHaveProperty("passphrase");
  const said = await screen.findByText(/Night was saved/);
  expect(said.parentElement?.textContent).toContain("the key that ends in y-9Z");
  expect(screen.getByText("key: a blank was dropped")).toBeTruthy();
  expect(document.body.innerHTML).not.toContain(KEY);
});

test("a refused key is reported at its field, and removed from it; the rest stays", async () => {
  api(true);
  const user = userEvent.setup();
  draw(<DestinationsPage />);
  await paste(user);
  expect(await screen.findByText("The key is empty. Copy it again.")).toBeTruthy();
  const key = screen.getByLabelText<HTMLInputElement>("Stream key");
  expect([key.value, key.type, key.getAttribute("aria-invalid")]).toEqual(["", "password", "true"]);
  expect(screen.getByLabelText<HTMLInputElement>("Name").value).toBe("Night");
});

test("an SRT address asks for a passphrase", async () => {
  const calls = api(false);
  const user = userEvent.setup();
  draw(<DestinationsPage />);
  await user.click(screen.getByRole("button", { name: "Add a destination" }));
  await user.type(screen.getByLabelText("Name"), "Hall");
  expect(screen.queryByLabelText("Passphrase")).toBeNull();
  await user.type(screen.getByLabelText("Server address"), "srt://ingest.example.net:8890");
  await user.type(screen.getByLabelText("Passphrase"), "a long passphrase");
  await user.selectOptions(screen.getByLabelText("Key length"), "256 bits");
  await user.click(screen.getByRole("button", { name: "Save destination" }));
  expect(calls.find((call) => call.method === "POST")?.body).toMatchObject({
    passphrase: "a long passphrase",
    key_length: 256,
  });
});

test("a card tells how the key stands, and an end that is near", () => {
  const soon = new Date(Date.now() + 2 * 86_400_000).toISOString();
  const stored = destination("Bramble TV", { relays: ["Summit"] });
  draw(<DestinationCard destination={{ ...stored, key: { ...stored.key!, expires_at: soon } }} />);
  const card = screen.getByRole("region", { name: "Bramble TV" });
  expect(card.textContent).toContain("ends in y-9Z, 21 characters, 25 days old and rolled 2 times");
  expect(within(card).getByText(/expires/).className).toContain("text-block");
  expect(within(card).getByRole("link", { name: "Summit" }).getAttribute("href")).toBe("/relays/Summit");
  expect(within(card).queryByRole("button", { name: "Remove" })).toBeNull();
});

test("rolling a key says which push reconnects, and forgets what was typed", async () => {
  const calls = api(false);
  const user = userEvent.setup();
  draw(<DestinationCard destination={destination("Bramble TV", { relays: ["Summit"] })} />, { role: "operator" });
  expect(screen.queryByRole("button", { name: "Reveal" })).toBeNull();
  await user.click(screen.getByRole("button", { name: "Roll key" }));
  const dialog = screen.getByRole("dialog", { name: "Roll the key of Bramble TV" });
  expect(dialog.textContent).toContain("Summit pushes there. That push alone reconnects once");
  await user.type(within(dialog).getByLabelText("New stream key"), KEY);
  await user.click(within(dialog).getByRole("button", { name: "Roll key" }));
  expect(calls.map(({ path, body }) => [path, body])).toEqual([
    ["/api/v1/destinations/Bramble%20TV/rekey", { key: KEY, key_kind: "reusable" }],
  ]);
  expect((await screen.findAllByText(/has a new key that ends in y-9Z/)).length).toBeGreaterThan(0);
  expect(document.body.innerHTML).not.toContain(KEY);
});

test("revealing asks once more, and what was shown goes with the dialog", async () => {
  const calls = fakeApi(() => ({ status: 200, body: { key: KEY, passphrase: null } }));
  const user = userEvent.setup();
  draw(<DestinationCard destination={destination("Bramble TV")} />);
  await user.click(screen.getByRole("button", { name: "Reveal" }));
  expect(calls).toHaveLength(0);
  expect(screen.getByRole("dialog").textContent).toContain("The audit trail records");
  await user.click(screen.getByRole("button", { name: "Reveal" }));
  expect((await screen.findByLabelText("Stream key")).textContent).toBe(KEY);
  await user.click(screen.getByRole("button", { name: "Close" }));
  expect(document.body.innerHTML).not.toContain(KEY);
});
