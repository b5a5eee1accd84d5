import type { Placeholder } from "../../../api/types";

/** A placeholder in words: `channel, a number from 1 to 32`. */
export function placeholderText(placeholder: Placeholder): string {
  switch (placeholder.kind) {
    case "text":
      return `${placeholder.name}, a text`;
    case "number":
      return `${placeholder.name}, a number from ${placeholder.min} to ${placeholder.max}`;
    case "choice":
      return `${placeholder.name}: ${placeholder.choices.map((choice) => choice.word).join(" or ")}`;
  }
}

/** A placeholder as a line of text: `channel: 1-32 +100 width 3`, `stream: main=1, sub=2`, `host`. */
export function writePlaceholder(placeholder: Placeholder): string {
  switch (placeholder.kind) {
    case "text":
      return placeholder.name;
    case "number": {
      const offset = placeholder.offset === undefined || placeholder.offset === 0 ? "" : ` +${placeholder.offset}`;
      const width = placeholder.width === undefined || placeholder.width === 0 ? "" : ` width ${placeholder.width}`;
      return `${placeholder.name}: ${placeholder.min}-${placeholder.max}${offset}${width}`;
    }
    case "choice":
      return `${placeholder.name}: ${placeholder.choices.map((choice) => `${choice.word}=${choice.value}`).join(", ")}`;
  }
}

/** Reads such a line; null where it is none. */
export function readPlaceholder(line: string): Placeholder | null {
  const text = /^\s*(\w+)\s*$/.exec(line);
  if (text?.[1] !== undefined) {
    return { name: text[1], kind: "text" };
  }
  const number = /^\s*(\w+)\s*:\s*(-?\d+)\s*-\s*(-?\d+)(?:\s*\+\s*(-?\d+))?(?:\s*width\s+(\d+))?\s*$/.exec(line);
  if (number?.[1] !== undefined) {
    const [, name, min, max, offset, width] = number;
    return {
      name,
      kind: "number",
      min: Number(min),
      max: Number(max),
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
