import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Relay } from "../../api/types";
import { Fault } from "../../ui/Fault";
import { AwayBanner } from "./components/AwayBanner";
import { LineCard } from "./components/LineCard";
import { NoLines } from "./components/NoLines";
import { Tools } from "./components/Tools";
import { matches, moodOf, verdictOf, worstFirst, type Mood } from "./judge";
import { useLiveRelays } from "./live";
import { relaysQuery } from "./queries";

/** The home page: is everything up, and if not, what broke, whose side, what to do. */
export function LinesPage(): ReactNode {
  const relays = useQuery(relaysQuery());
  const live = useLiveRelays();
  if (relays.isPending) {
    return <p className="text-quiet">Looking …</p>;
  }
  if (relays.data === undefined) {
    return <Fault error={relays.error} />;
  }
  return (
    <>
      {live.away && <AwayBanner since={live.since} />}
      {relays.data.length === 0 ? <NoLines /> : <Lines relays={relays.data} />}
    </>
  );
}

function Lines({ relays }: { relays: readonly Relay[] }): ReactNode {
  const [search, setSearch] = useState("");
  const [mood, setMood] = useState<Mood | null>(null);
  const verdict = verdictOf(relays);
  const shown = worstFirst(relays).filter(
    (relay) => matches(relay, search) && (mood === null || moodOf(relay) === mood),
  );
  return (
    <>
      <section className="mb-4">
        <h1 className="text-[26px] leading-tight font-[680]">{verdict.title}</h1>
        <p className="mt-1 text-quiet">{verdict.detail}</p>
      </section>
      <Tools relays={relays} search={search} onSearch={setSearch} mood={mood} onMood={setMood} />
      {shown.length === 0 && <p className="py-6 text-quiet">No line fits this filter.</p>}
      <ul aria-label="Lines" className="grid gap-2.5">
        {shown.map((relay) => (
          <LineCard key={relay.name} relay={relay} />
        ))}
      </ul>
    </>
  );
}
