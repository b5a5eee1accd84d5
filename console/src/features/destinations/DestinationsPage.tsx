import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Stored } from "../../api/types";
import { Button } from "../../ui/Button";
import { Dialog } from "../../ui/Dialog";
import { Empty } from "../../ui/Empty";
import { SearchField } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { May } from "../session";
import { DestinationCard } from "./components/DestinationCard";
import { DestinationForm } from "./components/DestinationForm";
import { Repairs } from "./components/Repairs";
import { destinationsQuery } from "./queries";

/** Page of destinations. */
export function DestinationsPage(): ReactNode {
  const destinations = useQuery(destinationsQuery());
  const [search, setSearch] = useState("");
  const [stored, setStored] = useState<Stored | null>(null);
  const add = (
    <May role="admin">
      <Dialog
        trigger={<Button kind="strong">Add a destination</Button>}
        title="Add a destination"
        lead="Paste the server address and stream key from the platform’s page. The key is stored encrypted and is shown again only on request."
        wide
      >
        {(close) => (
          <DestinationForm
            onStored={(done) => {
              setStored(done);
              close();
            }}
          />
        )}
      </Dialog>
    </May>
  );
  return (
    <>
      <PageHead
        name="Destinations"
        title="Destinations"
        lead="Channels on platforms: server address, stream key and watch page."
        actions={add}
      />
      {stored !== null && (
        <div className="mb-4">
          <Repairs stored={stored} />
        </div>
      )}
      <QueryBoundary query={destinations} height={400}>
        {(data) =>
          data.length === 0 ? (
            <Empty title="No destinations yet">
              Add one with the server address and the key from the platform’s page.
            </Empty>
          ) : (
            <>
              <div className="mb-3">
                <SearchField
                  label="Find a destination"
                  placeholder="Find a destination, a platform, a server"
                  value={search}
                  onChange={setSearch}
                />
              </div>
              <div className="grid gap-3 lg:grid-cols-2">
                {data
                  .filter((each) =>
                    [each.name, each.platform ?? "", each.server]
                      .join(" ")
                      .toLowerCase()
                      .includes(search.toLowerCase()),
                  )
                  .map((each) => (
                    <DestinationCard key={each.name} destination={each} />
                  ))}
              </div>
            </>
          )
        }
      </QueryBoundary>
    </>
  );
}
