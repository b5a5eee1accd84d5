import type { Blank } from "../../../api/types";

/** A blank in words: `channel, a number from 1 to 32`. */
export function blankWords(blank: Blank): string {
  switch (blank.kind) {
    case "text":
      return `${blank.name}, a text`;
    case "number":
      return `${blank.name}, a number from ${blank.least} to ${blank.most}`;
    case "choice":
      return `${blank.name}: ${blank.choices.map((choice) => choice.word).join(" or ")}`;
  }
}

/** A blank as a line of text: `channel: 1-32 +100 width 3`, `stream: main=1, sub=2`, `host`. */
export function writeBlank(blank: Blank): string {
  switch (blank.kind) {
    case "text":
      return blank.name;
    case "number": {
      const offset = blank.offset === undefined || blank.offset === 0 ? "" : ` +${blank.offset}`;
      const width = blank.width === undefined || blank.width === 0 ? "" : ` width ${blank.width}`;
      return `${blank.name}: ${blank.least}-${blank.most}${offset}${width}`;
    }
    case "choice":
      return `${blank.name}: ${blank.choices.map((choice) => `${choice.word}=${choice.value}`).join(", ")}`;
  }
}

/** Reads such a line; null where it is none. */
export function readBlank(line: string): Blank | null {
  const text = /^\s*(\w+)\s*$/.exec(line);
  if (text?.[1] !== undefined) {
    return { name: text[1], kind: "text" };
  }
  const number = /^\s*(\w+)\s*:\s*(-?\d+)\s*-\s*(-?\d+)(?:\s*\+\s*(-?\d+))?(?:\s*width\s+(\d+))?\s*$/.exec(line);
  if (number?.[1] !== undefined) {
    const [, name, least, most, offset, width] = number;
    return {
      name,
      kind: "number",
      least: Number(least),
      most: Number(most),
      offset: Number(offset ?? 0),
      width: Number(width ?? 0),
    };
  }
  const choice = /^\s*(\w+)\s*:\s*(.+)$/.exec(line);
  if (choice?.[1] === undefined || choice[2] === undefined) {
    return null;
  }
  const choices = choice[2].split(",").map((each) => /^\s*(\S+?)\s*=\s*(.*?)\s*$/.exec(each));
  if (choices.some((each) => each === null)) {
    return null;
  }
  return {
    name: choice[1],
    kind: "choice",
    choices: choices.map((each) => ({ word: each?.[1] ?? "", value: each?.[2] ?? "" })),
  };
}
