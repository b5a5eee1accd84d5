/** State of a signpost, as the service reports it. */
export type SignpostState = {
  state: "live" | "interrupted" | "off-air" | "paused";
  title: string;
  /** The page plays the picture itself, by this playlist. */
  playlist: string | null;
  /** Live watch page at a platform. */
  leads_to: string | null;
  /** Expected begin, in words. */
  expected: string | null;
};

function isText(value: unknown): value is string | null {
  return value === null || typeof value === "string";
}

/** Returns the state in a response; `null` if it is none. */
export function readState(value: unknown): SignpostState | null {
  const read = value as Partial<SignpostState> | null;
  const isValid =
    typeof read === "object" &&
    read !== null &&
    ["live", "interrupted", "off-air", "paused"].includes(read.state ?? "") &&
    typeof read.title === "string" &&
    isText(read.playlist) &&
    isText(read.leads_to) &&
    isText(read.expected);
  return isValid ? (read as SignpostState) : null;
}

/** Returns the message for viewers; `null` while the page plays the picture. */
export function messageOf(state: SignpostState): string | null {
  switch (state.state) {
    case "paused":
      return "This page is paused.";
    case "interrupted":
      return "The picture is interrupted. It comes back by itself.";
    case "off-air":
      return state.expected === null ? "Nothing is on air at the moment." : `Back at ${state.expected}.`;
    case "live":
      return state.playlist === null ? "On air." : null;
  }
}

/** Returns the host of a watch page; `null` for an address that is not one of the web. */
export function hostOf(page: string): string | null {
  try {
    const url = new URL(page);
    return url.protocol === "https:" || url.protocol === "http:" ? url.host : null;
  } catch {
    return null;
  }
}
