import { useSyncExternalStore } from "react";

/** Shared clock of the page. */
const listeners = new Set<() => void>();
let now = Date.now();
let timer: ReturnType<typeof setInterval> | undefined;

function subscribe(listener: () => void): () => void {
  if (listeners.size === 0) {
    // While nobody looked it stood still.
    now = Date.now();
  }
  listeners.add(listener);
  timer ??= setInterval(() => {
    now = Date.now();
    listeners.forEach((each) => each());
  }, 1000);
  return () => {
    listeners.delete(listener);
    if (listeners.size === 0) {
      clearInterval(timer);
      timer = undefined;
    }
  };
}

/** The time in milliseconds, stepping once a second. */
export function useNow(): number {
  return useSyncExternalStore(subscribe, () => now);
}
