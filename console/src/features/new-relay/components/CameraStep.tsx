import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Feed } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { SelectField } from "../../../ui/Field";
import { Tabs } from "../../../ui/Tabs";
import { FeedForm, FindPanel, PatternFill, feedsQuery } from "../../feeds";
import type { StepProps } from "../NewRelayPage";

/** Camera: saved, by address, by pattern, or discovered. */
export function CameraStep({ draft, change }: StepProps): ReactNode {
  const feeds = useQuery(feedsQuery());
  const [way, setWay] = useState("address");
  const [found, setFound] = useState<Parameters<typeof FeedForm>[0]["draft"] | null>(null);
  const take = (feed: Pick<Feed, "name">) =>
    change({ feed: feed.name, survey: "", step: "survey", name: draft.name || feed.name });
  const saved = feeds.data ?? [];
  return (
    <Card label="Camera">
      <Tabs
        label="Camera"
        value={way}
        onChange={setWay}
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
            value: "saved",
            label: `Saved camera (${saved.length})`,
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
