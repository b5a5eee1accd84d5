import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Card } from "../../../ui/Card";
import { Link } from "../../../ui/Link";
import { QueryBoundary } from "../../../ui/QueryBoundary";
import { LogLines, logbookQuery } from "../../logbook";

/** Latest log entries of a relay. */
export function RecentLines({ about }: { about: string }): ReactNode {
  const lines = useQuery(logbookQuery({ about, limit: 12 }));
  return (
    <Card
      label="Recent entries"
      title="Recent entries"
      aside={<Link to={`/logbook?about=${encodeURIComponent(about)}`}>Full logbook</Link>}
    >
      <QueryBoundary query={lines}>
        {(data) =>
          data.length === 0 ? <p className="text-quiet">Nothing yet.</p> : <LogLines entries={data.toReversed()} />
        }
      </QueryBoundary>
    </Card>
  );
}
