import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import type { Check } from "../../api/types";
import { listed } from "../../lib/format";
import { isOff } from "../../lib/states";
import { Button } from "../../ui/Button";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { JobStep } from "../../ui/JobStep";
import { relaysQuery } from "../lines";
import { useMay } from "../session";
import { TuneResult } from "./components/TuneResult";
import { useTune } from "./queries";

type Props = { feed: string; checks: readonly Check[]; onTuned: () => void };

/**
 * Applies the settings that suit all relays of a feed to its camera, if that may solve one of the checks. Asks first if
 * the camera is on air.
 */
export function TuneButton({ feed, checks, onTuned }: Props): ReactNode {
  const tune = useTune(feed, onTuned);
  const relays = useQuery(relaysQuery());
  const may = useMay("admin");
  const isOffered = may && relays.data !== undefined && checks.some((check) => check.tune === true);
  const onAir = (relays.data ?? []).filter((relay) => relay.feed.name === feed && !isOff(relay.wanted));
  const label = "Tune the camera";
  return (
    <>
      {tune.isPending && <JobStep progress={tune.progress} otherwise="changing the camera's settings" />}
      {tune.error !== null && <ErrorMessage error={tune.error} />}
      {tune.data !== undefined && <TuneResult result={tune.data} />}
      {isOffered &&
        (onAir.length === 0 ? (
          <Button disabled={tune.isPending} onClick={() => tune.mutate({})} className="justify-self-end">
            {label}
          </Button>
        ) : (
          <ConfirmDialog
            trigger={
              <Button disabled={tune.isPending} className="justify-self-end">
                {label}
              </Button>
            }
            title={`Change the settings of ${feed}?`}
            confirm="Change the camera"
            onConfirm={() => tune.mutate({})}
          >
            On air from this camera: {listed(onAir.map((relay) => relay.name))}. Its picture may pause for some seconds.
            The former settings are kept for undo.
          </ConfirmDialog>
        ))}
    </>
  );
}
