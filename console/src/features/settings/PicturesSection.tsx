import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Card } from "../../ui/Card";
import { Empty } from "../../ui/Empty";
import { Link } from "../../ui/Link";
import { Loaded } from "../../ui/Loaded";
import { relaysQuery } from "../lines";
import { HoldingPicture } from "../relay";
import { useMay } from "../session";

/** Holding pictures of the relays. */
export function PicturesSection(): ReactNode {
  const relays = useQuery(relaysQuery());
  const keeps = useMay("admin");
  return (
    <Loaded query={relays}>
      {(data) =>
        data.length === 0 ? (
          <Empty title="No relay yet">Each relay has a holding picture of its own.</Empty>
        ) : (
          <div className="grid items-start gap-3 md:grid-cols-2 xl:grid-cols-3">
            {data
              .toSorted((a, b) => a.name.localeCompare(b.name))
              .map((relay) => (
                <Card
                  key={relay.name}
                  label={relay.name}
                  title={<Link to={`/relays/${encodeURIComponent(relay.name)}`}>{relay.name}</Link>}
                  aside={relay.hold_after_s === 0 ? "not shown by itself" : `after ${relay.hold_after_s ?? 3} s`}
                >
                  {keeps ? (
                    <HoldingPicture relay={relay} />
                  ) : (
                    <p className="text-[13px] text-quiet">
                      {relay.holding_picture === true ? "A picture of its own." : "The card."}
                    </p>
                  )}
                </Card>
              ))}
          </div>
        )
      }
    </Loaded>
  );
}
