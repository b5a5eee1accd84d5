import type { ReactNode } from "react";

import { useNow } from "../../../lib/clock";
import { duration } from "../../../lib/format";

type Props = { time: string | null | undefined; before?: string; className?: string };

/** Live age of a time. */
export function Since({ time, before = "", className }: Props): ReactNode {
  const now = useNow();
  if (time == null) {
    return null;
  }
  return (
    <time dateTime={time} className={className}>
      {before}
      {duration(now - Date.parse(time))}
    </time>
  );
}
