import type { QueryClient, QueryKey } from "@tanstack/react-query";

/** What is known to be stale and is read anew soon: many reasons are one reading. */
export class Staleness {
  private readonly waiting = new Map<string, ReturnType<typeof setTimeout>>();

  constructor(private readonly client: QueryClient) {}

  /** Has what stands under `keys` read anew within `delayMs`, if it is shown; else when it is looked at next. */
  mark(keys: readonly QueryKey[], delayMs: number): void {
    for (const key of keys) {
      const name = JSON.stringify(key);
      if (!this.waiting.has(name)) {
        this.waiting.set(
          name,
          setTimeout(() => {
            this.waiting.delete(name);
            void this.client.invalidateQueries({ queryKey: key });
          }, delayMs),
        );
      }
    }
  }

  stop(): void {
    this.waiting.forEach((timer) => clearTimeout(timer));
    this.waiting.clear();
  }
}
