import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Dialog } from "../../ui/Dialog";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { Facts } from "../../ui/Facts";
import { JobStep } from "../../ui/JobStep";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { TuneForm } from "./components/TuneForm";
import { TuneResult } from "./components/TuneResult";
import { tuningQuery, useTune } from "./queries";

/** Encoder settings of a feed's camera over ONVIF: shown, changed, verified and restored. */
export function TuneDialog({ feed, trigger }: { feed: string; trigger: ReactNode }): ReactNode {
  return (
    <Dialog
      wide
      trigger={trigger}
      title={`Camera settings of ${feed}`}
      lead="Read from the camera over ONVIF. A change is verified by a survey; the former settings are kept for undo."
    >
      {() => <Content feed={feed} />}
    </Dialog>
  );
}

function Content({ feed }: { feed: string }): ReactNode {
  const tuning = useQuery(tuningQuery(feed));
  const tune = useTune(feed);
  return (
    <div className="grid gap-4">
      {tune.isPending && <JobStep progress={tune.progress} otherwise="changing the camera's settings" />}
      {tune.error !== null && <ErrorMessage error={tune.error} />}
      {tune.data !== undefined && <TuneResult result={tune.data} />}
      <QueryBoundary query={tuning} height={260}>
        {(data) => (
          <>
            <Facts
              rows={[
                ["Camera", [data.model, data.firmware].filter((text) => text !== "").join(", ") || "—"],
                ["Profile", data.profile],
                ["Device", data.device],
              ]}
            />
            <TuneForm
              key={JSON.stringify(data.configured)}
              tuning={data}
              disabled={tune.isPending}
              onApply={(settings, shared) => tune.mutate({ settings, shared })}
              onUndo={() =>
                tune.mutate({ undo: true, shared: data.shared_with.length + data.audio_shared_with.length > 0 })
              }
            />
          </>
        )}
      </QueryBoundary>
    </div>
  );
}
