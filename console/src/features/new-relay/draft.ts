import { useState } from "react";

/** Steps in their order. */
export const STEPS = [
  { value: "camera", label: "Feed" },
  { value: "survey", label: "Survey" },
  { value: "destination", label: "Destinations" },
  { value: "check", label: "Check and start" },
] as const;

export type Step = (typeof STEPS)[number]["value"];

/**
 * Draft of a relay. It has names only: camera and destinations are stored by the service, so that the browser keeps no
 * secrets.
 */
export type Draft = { step: Step; feed: string; to: readonly string[]; name: string; survey: string };

const EMPTY: Draft = { step: "camera", feed: "", to: [], name: "", survey: "" };
const STORAGE = "yonder-new-relay";

function isDraft(value: unknown): value is Draft {
  const draft = value as Partial<Draft> | null;
  return (
    typeof draft === "object" &&
    draft !== null &&
    STEPS.some((step) => step.value === draft.step) &&
    [draft.feed, draft.name, draft.survey].every((each) => typeof each === "string") &&
    Array.isArray(draft.to) &&
    draft.to.every((each) => typeof each === "string")
  );
}

/** Returns the stored draft, or an empty one. */
export function keptDraft(storage: Storage): Draft {
  try {
    const stored: unknown = JSON.parse(storage.getItem(STORAGE) ?? "null");
    return isDraft(stored) ? stored : EMPTY;
  } catch {
    return EMPTY;
  }
}

/** The draft, which outlives a reload; `forget` starts over. */
export function useDraft(): { draft: Draft; change: (change: Partial<Draft>) => void; forget: () => void } {
  const [draft, setDraft] = useState<Draft>(() => keptDraft(window.localStorage));
  const change = (part: Partial<Draft>) =>
    setDraft((before) => {
      const after = { ...before, ...part };
      window.localStorage.setItem(STORAGE, JSON.stringify(after));
      return after;
    });
  const forget = () => {
    window.localStorage.removeItem(STORAGE);
    setDraft(EMPTY);
  };
  return { draft, change, forget };
}

/** Returns true if the requirements of a step are met. */
export function isOpen(draft: Draft, step: Step): boolean {
  switch (step) {
    case "camera":
      return true;
    case "survey":
    case "destination":
      return draft.feed !== "";
    case "check":
      return draft.feed !== "" && draft.to.length > 0;
  }
}
