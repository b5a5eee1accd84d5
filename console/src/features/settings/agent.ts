/** Browser and system of a user agent. */
export function agentText(agent: string): string {
  if (agent === "") {
    return "in an unnamed browser";
  }
  const engine = /(Firefox|Edg|OPR|Chrome|Safari)\//.exec(agent)?.[1];
  const names: Record<string, string> = {
    Edg: "a Chromium browser",
    OPR: "a Chromium browser",
    Chrome: "a Chromium browser",
  };
  const browser =
    engine === undefined
      ? agent.slice(0, 40)
      : (names[engine] ?? `a ${engine === "Safari" ? "WebKit" : "Gecko"} browser`);
  const system = /(Android|iPhone|iPad|Windows|Mac OS X|Linux)/.exec(agent)?.[1];
  return system === undefined ? `in ${browser}` : `in ${browser} on ${system}`;
}
