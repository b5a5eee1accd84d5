import type { ReactNode } from "react";

import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { ButtonLink } from "../../../ui/Link";
import { SurveyPanel } from "../../feeds";
import { PreviewDialog } from "../../preview";
import type { StepProps } from "../NewRelayPage";

/** Survey: stills and measurements of main and sub stream. */
export function SurveyStep({ draft, change }: StepProps): ReactNode {
  return (
    <Card label="Survey" title={draft.feed}>
      <SurveyPanel
        key={draft.feed}
        of={{ feed: draft.feed }}
        id={draft.survey === "" ? null : draft.survey}
        onBegun={(survey) => change({ survey })}
      />
      <div className="mt-4 flex flex-wrap justify-end gap-2">
        <PreviewDialog feed={draft.feed} trigger={<Button>Watch live</Button>} />
        <ButtonLink to={`/feeds/${encodeURIComponent(draft.feed)}`}>Change address</ButtonLink>
        <Button kind="strong" onClick={() => change({ step: "destination" })}>
          Continue to the destinations
        </Button>
      </div>
    </Card>
  );
}
