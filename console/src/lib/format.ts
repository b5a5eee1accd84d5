/** Thin groups of three: 12 345, with a narrow blank that does not break. */
export function grouped(value: number): string {
  return Math.round(value)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, "\u202f");
}

/** A rate with its unit, which stays with its number: kbit/s up to ten thousand, Mbit/s above. */
export function rate(kbps: number): string {
  return kbps >= 10_000 ? `${(kbps / 1000).toFixed(1)}\u00a0Mbit/s` : `${grouped(kbps)}\u00a0kbit/s`;
}

/** Time until the next attempt, as it is shown while that runs down: `4 s`, `14 min`. */
export function untilRetry(seconds: number): string {
  return seconds < 90 ? `${Math.round(seconds)} s` : `${Math.round(seconds / 60)} min`;
}

/** A length of time in its two largest units: `11 d 07 h`, `3 min 10 s`, `14 s`. */
export function duration(milliseconds: number): string {
  const seconds = Math.max(0, Math.floor(milliseconds / 1000));
  const two = (value: number) => value.toString().padStart(2, "0");
  const [d, h, m, s] = [
    Math.floor(seconds / 86_400),
    Math.floor(seconds / 3_600) % 24,
    Math.floor(seconds / 60) % 60,
    seconds % 60,
  ];
  if (d > 0) {
    return `${d} d ${two(h)} h`;
  }
  if (h > 0) {
    return `${h} h ${two(m)} min`;
  }
  return m > 0 ? `${m} min ${two(s)} s` : `${s} s`;
}

/** Formats numbers up to ten as words, others in digits. */
export function countText(count: number): string {
  const numerals = ["No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten"];
  return numerals[count] ?? count.toString();
}

/** Formats a list: `a`, `a and b`, `a, b and c`. */
export function listed(names: readonly string[]): string {
  const last = names.at(-1) ?? "";
  return names.length < 2 ? last : `${names.slice(0, -1).join(", ")} and ${last}`;
}

/** Bytes as people buy them, in powers of 1000: `812 MB`, `1.24 TB`. */
export function volume(bytes: number): string {
  const units = ["B", "kB", "MB", "GB", "TB", "PB"] as const;
  let [value, at] = [bytes, 0];
  while (value >= 1000 && at < units.length - 1) {
    value /= 1000;
    at += 1;
  }
  const digits = at === 0 || value >= 100 ? 0 : value >= 10 ? 1 : 2;
  return `${value.toFixed(digits)}\u00a0${units[at]}`;
}

/** Time of day, where it is today; with the day where it is not. */
export function moment(time: string, now: number = Date.now()): string {
  const date = new Date(time);
  const clock = date.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
  return date.toDateString() === new Date(now).toDateString() ? clock : `${day(time)}, ${clock}`;
}

/** A day like `23 Nov 2026`. */
export function day(time: string): string {
  return new Date(time).toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric" });
}

/** Day and time to the minute. */
export function dayAndTime(time: string): string {
  return `${day(time)}, ${new Date(time).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" })}`;
}

/** A count with its noun: `1 push`, `2 pushes`. */
export function counted(count: number, one: string, many: string = `${one}s`): string {
  return `${grouped(count)} ${count === 1 ? one : many}`;
}
