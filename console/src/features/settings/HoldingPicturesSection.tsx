import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Card } from "../../ui/Card";
import { Empty } from "../../ui/Empty";
import { Link } from "../../ui/Link";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { relaysQuery } from "../lines";
import { HoldingPicture } from "../relay";
import { useMay } from "../session";

/** Holding pictures of the relays. */
export function HoldingPicturesSection(): ReactNode {
  const relays = useQuery(relaysQuery());
  const keeps = useMay("admin");
  return (
    <QueryBoundary query={relays}>
      {(data) =>
        data.length === 0 ? (
          <Empty title="No relay yet">Each relay has its own holding picture.</Empty>
        ) : (
          <div className="grid items-start gap-3 md:grid-cols-2 xl:grid-cols-3">
            {data
              .toSorted((a, b) => a.name.localeCompare(b.name))
              .map((relay) => (
                <Card
                  key={relay.name}
                  label={relay.name}
                  title={<Link to={`/relays/${encodeURIComponent(relay.name)}`}>{relay.name}</Link>}
                  aside={relay.hold_after_s === 0 ? "never shown automatically" : `after ${relay.hold_after_s ?? 3} s`}
                >
                  {keeps ? (
                    <HoldingPicture relay={relay} />
                  ) : (
                    <p className="text-[13px] text-quiet">
                      {relay.holding_picture === true ? "Own image." : "Default image."}
                    </p>
                  )}
                </Card>
              ))}
          </div>
        )
      }
    </QueryBoundary>
  );
}
