import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Card } from "../../../ui/Card";
import { Link } from "../../../ui/Link";
import { Loaded } from "../../../ui/Loaded";
import { LogLines, logbookQuery } from "../../logbook";

/** Latest log entries of a relay. */
export function RecentLines({ about }: { about: string }): ReactNode {
  const lines = useQuery(logbookQuery({ about, limit: 12 }));
  return (
    <Card
      label="Of late"
      title="Of late"
      aside={<Link to={`/logbook?about=${encodeURIComponent(about)}`}>All of its logbook</Link>}
    >
      <Loaded query={lines}>
        {(data) => (data.length === 0 ? <p className="text-quiet">Nothing yet.</p> : <LogLines entries={data.toReversed()} />)}
      </Loaded>
    </Card>
  );
}
