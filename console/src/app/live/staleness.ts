import type { QueryClient, QueryKey } from "@tanstack/react-query";

/** Stale queries, refetched together after a delay. */
export class Staleness {
  private readonly waiting = new Map<string, ReturnType<typeof setTimeout>>();

  constructor(private readonly client: QueryClient) {}

  /** Refetches the queries under `keys` within `delayMs` if they are shown, else when they are shown next. */
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
