import { expect, test } from "vitest";

import { agentText } from "./agent";

test.each([
  [
    "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0 Safari/537.36",
    "in a Chromium browser on Linux",
  ],
  [
    "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 Version/18.0 Safari/604.1",
    "in a WebKit browser on iPhone",
  ],
  ["Mozilla/5.0 (Windows NT 10.0; rv:140.0) Gecko/20100101 Firefox/140.0", "in a Gecko browser on Windows"],
  ["wall-display/2", "in wall-display/2"],
  ["", "in an unnamed browser"],
])("%s is %s", (agent, words) => {
  expect(agentText(agent)).toBe(words);
});
