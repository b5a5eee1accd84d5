import { expect, test } from "vitest";

import { previewUrl } from "./player";

test("the preview is asked for where the page came from, with the name encoded", () => {
  const page = (protocol: string) => ({ protocol, host: "relay.example.net:8460" }) as Location;
  expect(previewUrl("Summit Station", page("http:"))).toBe(
    "ws://relay.example.net:8460/api/v1/feeds/Summit%20Station/preview",
  );
  expect(previewUrl("a/b", page("https:"))).toBe("wss://relay.example.net:8460/api/v1/feeds/a%2Fb/preview");
});
