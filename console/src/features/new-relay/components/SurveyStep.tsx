import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { ButtonLink } from "../../../ui/Link";
import { EncoderCard, SurveyPanel, feedsQuery, publishedRefetch } from "../../feeds";
import { PreviewDialog } from "../../preview";
import type { StepProps } from "../NewRelayPage";

/** Survey: stills and measurements of main and sub stream; for an encoder, its access too. */
export function SurveyStep({ draft, change }: StepProps): ReactNode {
  const feeds = useQuery({ ...feedsQuery(), refetchInterval: publishedRefetch(draft.feed) });
  const feed = feeds.data?.find((each) => each.name === draft.feed);
  return (
    <Card label="Survey" title={draft.feed}>
      {feed?.ingest != null && (
        <section aria-label="Encoder" className="mb-4 border-b border-hair pb-4">
          <EncoderCard feed={feed} publisher={feed.publisher ?? null} />
        </section>
      )}
      <SurveyPanel
        key={draft.feed}
        of={{ feed: draft.feed }}
        id={draft.survey === "" ? null : draft.survey}
        onBegun={(survey) => change({ survey })}
      />
      <div className="mt-4 flex flex-wrap justify-end gap-2">
        <PreviewDialog feed={draft.feed} trigger={<Button>Watch live</Button>} />
        <ButtonLink to={`/feeds/${encodeURIComponent(draft.feed)}`}>
          {feed?.ingest == null ? "Change address" : "Change encoder"}
        </ButtonLink>
        <Button kind="strong" onClick={() => change({ step: "destination" })}>
          Continue to the destinations
        </Button>
      </div>
    </Card>
  );
}
