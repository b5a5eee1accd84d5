import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";

import { isFlowing } from "../../lib/states";
import type { Feed, FeedState } from "../../api/types";
import { rate } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Dialog } from "../../ui/Dialog";
import { Empty } from "../../ui/Empty";
import { SearchField } from "../../ui/Field";
import { ButtonLink } from "../../ui/Link";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { State } from "../../ui/State";
import { Still, factsOf, relaysQuery } from "../lines";
import { May } from "../session";
import { FeedForm } from "./components/FeedForm";
import { FeedNav } from "./components/FeedNav";
import { IngestForm } from "./components/IngestForm";
import { feedsQuery } from "./queries";

const ENCODER_LEAD =
  "For field encoders, action cameras and phones that push. The feed gets a stream key, which its page shows for typing.";

/** Cameras that are pulled, and encoders that publish. */
export function FeedsPage(): ReactNode {
  const feeds = useQuery(feedsQuery());
  const relays = useQuery(relaysQuery());
  const navigate = useNavigate();
  const [search, setSearch] = useState("");
  const states = new Map((relays.data ?? []).map((relay) => [relay.feed.name, relay.feed]));
  const open = (feed: Feed) => void navigate(`/feeds/${encodeURIComponent(feed.name)}`);
  const add = (
    <May role="admin">
      <Dialog trigger={<Button kind="strong">Add a camera</Button>} title="Add a camera" wide>
        {() => <FeedForm onDone={open} />}
      </Dialog>
      <Dialog trigger={<Button>Add an encoder</Button>} title="Add an encoder" wide lead={ENCODER_LEAD}>
        {() => <IngestForm onDone={open} />}
      </Dialog>
    </May>
  );
  return (
    <>
      <PageHead name="Feeds" title="Feeds" lead="Cameras and encoders: addresses and measured streams." actions={add} />
      <FeedNav />
      <QueryBoundary query={feeds} height={400}>
        {(data) =>
          data.length === 0 ? (
            <Empty title="No camera yet" action={<ButtonLink to="/find">Find cameras</ButtonLink>}>
              Search the local network, use an address pattern, or enter an address.
            </Empty>
          ) : (
            <>
              <div className="mb-3">
                <SearchField
                  label="Find a feed"
                  placeholder="Find a feed, a site, an address"
                  value={search}
                  onChange={setSearch}
                />
              </div>
              <ul aria-label="Feeds" className="grid gap-3 md:grid-cols-2 xl:grid-cols-3">
                {data
                  .filter((feed) =>
                    [feed.name, feed.site ?? "", feed.url].join(" ").toLowerCase().includes(search.toLowerCase()),
                  )
                  .map((feed) => (
                    <FeedTile key={feed.name} feed={feed} state={states.get(feed.name)} />
                  ))}
              </ul>
            </>
          )
        }
      </QueryBoundary>
    </>
  );
}

function publishedText({ publisher }: Feed): string {
  return publisher == null
    ? "published by an encoder"
    : [publisher.protocol.toUpperCase(), publisher.address, publisher.software]
        .filter((text) => text != null)
        .join(" · ");
}

function FeedTile({ feed, state }: { feed: Feed; state: FeedState | undefined }): ReactNode {
  return (
    <li className="grid min-w-0 grid-cols-[124px_minmax(0,1fr)] gap-3.5 rounded-[10px] border border-hair bg-card p-3">
      {state === undefined ? (
        <span className="h-[72px] rounded-md bg-hair" />
      ) : (
        <Still feed={state} className="h-[72px] w-[124px]" />
      )}
      <div className="min-w-0">
        <h2 className="truncate text-base leading-tight font-[650]">
          <Link to={`/feeds/${encodeURIComponent(feed.name)}`} className="hover:underline">
            {feed.name}
          </Link>
        </h2>
        <p className="truncate text-[12.5px] text-quiet">
          {[feed.site, feed.sub_url == null ? null : "main and sub"].filter((each) => each != null).join(" · ")}
        </p>
        <p className="truncate text-[12.5px] text-quiet">{feed.ingest == null ? feed.url : publishedText(feed)}</p>
        <p className="flex flex-wrap items-center gap-x-2 text-[12.5px]">
          <State word={state?.state ?? feed.state} size={18} />
          {state?.video != null && isFlowing(state.state) && (
            <span className="text-quiet">
              {factsOf(state)} · {rate(state.video.kbps)}
            </span>
          )}
        </p>
        {feed.warnings.map((warning) => (
          <p key={warning} className="text-[12.5px] text-wait">
            {warning}
          </p>
        ))}
      </div>
    </li>
  );
}
