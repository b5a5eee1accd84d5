import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Feed } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { SelectField } from "../../../ui/Field";
import { Tabs } from "../../../ui/Tabs";
import { FeedForm, FindPanel, IngestForm, PatternFill, feedsQuery } from "../../feeds";
import type { StepProps } from "../NewRelayPage";

/** Feed: a camera by address, pattern or discovery, an encoder that publishes, or a saved feed. */
export function FeedStep({ draft, change }: StepProps): ReactNode {
  const feeds = useQuery(feedsQuery());
  const [tab, setTab] = useState("address");
  const [found, setFound] = useState<Parameters<typeof FeedForm>[0]["draft"] | null>(null);
  const take = (feed: Pick<Feed, "name">) =>
    change({ feed: feed.name, survey: "", step: "survey", name: draft.name || feed.name });
  const saved = feeds.data ?? [];
  return (
    <Card label="Source">
      <Tabs
        label="Source"
        value={tab}
        onChange={setTab}
        tabs={[
          {
            value: "address",
            label: "Enter an address",
            content: <FeedForm onDone={take} action="Save and continue" />,
          },
          {
            value: "find",
            label: "Search",
            content:
              found === null ? (
                <FindPanel onChoose={setFound} />
              ) : (
                <div className="grid gap-3">
                  <Button className="justify-self-start" onClick={() => setFound(null)}>
                    Search again
                  </Button>
                  <FeedForm draft={found ?? {}} onDone={take} action="Save and continue" />
                </div>
              ),
          },
          {
            value: "pattern",
            label: "Use a pattern",
            content: (
              <PatternFill
                onDone={(made) => {
                  const first = made[0];
                  if (first !== undefined) {
                    take(first);
                  }
                }}
              />
            ),
          },
          {
            value: "encoder",
            label: "Encoder that pushes",
            content: (
              <div className="grid gap-3">
                <p className="max-w-[70ch] text-quiet">
                  For encoders, action cameras and phones that push by RTMP or SRT. The service makes the stream key;
                  server and key are shown in the next step.
                </p>
                <IngestForm onDone={take} />
              </div>
            ),
          },
          {
            value: "saved",
            label: `Saved feed (${saved.length})`,
            content: <SavedFeeds feeds={saved} chosen={draft.feed} onTake={take} />,
          },
        ]}
      />
    </Card>
  );
}

type SavedFeedsProps = { feeds: readonly Feed[]; chosen: string; onTake: (feed: Feed) => void };

function SavedFeeds({ feeds, chosen, onTake }: SavedFeedsProps): ReactNode {
  const [name, setName] = useState(chosen);
  const feed = feeds.find((each) => each.name === name);
  return (
    <div className="grid gap-4">
      <SelectField
        label="Feed"
        value={name}
        onChange={(event) => setName(event.target.value)}
        choices={[{ value: "", label: "choose one" }, ...feeds.map((each) => ({ value: each.name, label: each.name }))]}
      />
      <Button
        kind="strong"
        disabled={feed === undefined}
        onClick={() => feed !== undefined && onTake(feed)}
        className="justify-self-end"
      >
        Continue with this feed
      </Button>
    </div>
  );
}
