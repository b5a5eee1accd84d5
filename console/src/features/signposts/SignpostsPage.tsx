import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Button } from "../../ui/Button";
import { Dialog } from "../../ui/Dialog";
import { Empty } from "../../ui/Empty";
import { PageHead } from "../../ui/Page";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { May } from "../session";
import { SignpostCard } from "./components/SignpostCard";
import { SignpostForm } from "./components/SignpostForm";
import { signpostsQuery } from "./queries";

/** Public links to the pictures of relays. */
export function SignpostsPage(): ReactNode {
  const signposts = useQuery(signpostsQuery());
  return (
    <>
      <PageHead
        name="Signposts"
        title="Signposts"
        lead="Public links that stay: each leads to where the picture of a relay can be watched now."
        actions={
          <May role="admin">
            <Dialog
              trigger={<Button kind="strong">Add a signpost</Button>}
              title="Add a signpost"
              lead="Anyone with the link can watch the picture."
              wide
            >
              {(close) => <SignpostForm onDone={close} />}
            </Dialog>
          </May>
        }
      />
      <QueryBoundary query={signposts} height={400}>
        {(data) =>
          data.length === 0 ? (
            <Empty title="No signposts yet">
              Add one for a relay: a page that plays the picture, or leads to the watch page at the platform.
            </Empty>
          ) : (
            <>
              {data.every((signpost) => signpost.links == null) && (
                <p className="mb-3 text-wait">
                  The service serves no public pages. Start it with --public, such as --public 0.0.0.0:8470.
                </p>
              )}
              <div className="grid gap-3 lg:grid-cols-2">
                {data.map((signpost) => (
                  <SignpostCard key={signpost.name} signpost={signpost} />
                ))}
              </div>
            </>
          )
        }
      </QueryBoundary>
    </>
  );
}
