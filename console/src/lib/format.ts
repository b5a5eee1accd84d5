/** Thin groups of three: 12 345, with a narrow blank that does not break. */
export function grouped(value: number): string {
  return Math.round(value)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, "\u202f");
}

/** A rate with its unit: kbit/s up to ten thousand, Mbit/s above. */
export function rate(kbps: number): string {
  return kbps >= 10_000 ? `${(kbps / 1000).toFixed(1)} Mbit/s` : `${grouped(kbps)} kbit/s`;
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

/** A number in words as far as people read them, else in digits. */
export function inWords(count: number): string {
  const words = ["No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten"];
  return words[count] ?? count.toString();
}

/** Names as they are listed: `a`, `a and b`, `a, b and c`. */
export function listed(names: readonly string[]): string {
  const last = names.at(-1) ?? "";
  return names.length < 2 ? last : `${names.slice(0, -1).join(", ")} and ${last}`;
}
