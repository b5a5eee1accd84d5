import { memo, type ReactNode } from "react";

import type { LogEntry } from "../../../api/types";
import { moment } from "../../../lib/format";
import { Link } from "../../../ui/Link";
import { Pennant, isStateWord, toneOf } from "../../../ui/Pennant";

/** Entries of the logbook. */
export function LogLines({ entries }: { entries: readonly LogEntry[] }): ReactNode {
  return (
    <ol className="text-[13px]">
      {entries.map((entry) => (
        <Line key={entry.id} entry={entry} />
      ))}
    </ol>
  );
}

const Line = memo(function Line({ entry }: { entry: LogEntry }): ReactNode {
  return (
    <li className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 border-b border-hair py-1.5 last:border-0 sm:grid-cols-[90px_280px_minmax(0,1fr)]">
      <time dateTime={entry.at} className="order-2 text-quiet sm:order-none">
        {moment(entry.at)}
      </time>
      <span className="min-w-0 truncate">
        <span className="text-quiet">{entry.kind === "push" ? "" : `${entry.kind} `}</span>
        <Subject entry={entry} />
      </span>
      <span className="order-3 col-span-2 min-w-0 sm:order-none sm:col-span-1">
        <What word={entry.what} />
        {entry.who != null && entry.who !== entry.name && <span> by {entry.who}</span>}
        {entry.message !== "" && <span>: {entry.message}</span>}
        {entry.code != null && <span className="text-quiet"> · {entry.code}</span>}
      </span>
    </li>
  );
});

function Subject({ entry }: { entry: LogEntry }): ReactNode {
  const { kind, name, part } = entry;
  const path = encodeURIComponent(name);
  if (kind === "push" || kind === "relay") {
    return (
      <>
        <Link to={`/relays/${path}`} className="no-underline">
          {name}
        </Link>
        {part != null && <span className="text-quiet"> → {part}</span>}
      </>
    );
  }
  return kind === "feed" ? (
    <Link to={`/feeds/${path}`} className="no-underline">
      {name}
    </Link>
  ) : (
    name
  );
}

function What({ word }: { word: string }): ReactNode {
  if (!isStateWord(word)) {
    return <strong className="font-semibold">{word.replaceAll("-", " ")}</strong>;
  }
  return (
    <span className={`inline-flex items-center gap-1 font-semibold ${toneOf(word)}`}>
      <Pennant state={word} size={15} />
      {word}
    </span>
  );
}
