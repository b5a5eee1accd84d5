import type { ReactNode } from "react";

import { Button } from "../../ui/Button";
import { Empty } from "../../ui/Empty";
import { PageHead } from "../../ui/Page";
import { useMay } from "../session";
import { FeedStep } from "./components/FeedStep";
import { CheckStep } from "./components/CheckStep";
import { DestinationStep } from "./components/DestinationStep";
import { SurveyStep } from "./components/SurveyStep";
import { STEPS, isOpen, useDraft, type Draft, type Step } from "./draft";

/** Properties of each step: the draft, and the way to the next step. */
export type StepProps = { draft: Draft; change: (change: Partial<Draft>) => void };

/** Steps to a new relay: feed, survey, destinations, checks, start. */
export function NewRelayPage(): ReactNode {
  const { draft, change, forget } = useDraft();
  const keeps = useMay("admin");
  if (!keeps) {
    return <Empty title="Only admins set up relays">Your role can watch and switch existing relays.</Empty>;
  }
  return (
    <>
      <PageHead
        name="New relay"
        title="New relay"
        lead="Four steps; you can interrupt them at any point. Feed and destinations are saved as soon as they are entered."
        actions={draft.feed === "" ? undefined : <Button onClick={forget}>Start over</Button>}
      />
      <Path draft={draft} onStep={(step) => change({ step })} />
      <div className="max-w-[1080px]">{content({ draft, change }, forget)}</div>
    </>
  );
}

function content(props: StepProps, forget: () => void): ReactNode {
  switch (props.draft.step) {
    case "camera":
      return <FeedStep {...props} />;
    case "survey":
      return <SurveyStep {...props} />;
    case "destination":
      return <DestinationStep {...props} />;
    case "check":
      return <CheckStep {...props} onStarted={forget} />;
  }
}

/** Progress of the steps. */
function Path({ draft, onStep }: { draft: Draft; onStep: (step: Step) => void }): ReactNode {
  const here = STEPS.findIndex((step) => step.value === draft.step);
  const said: Record<Step, string> = {
    camera: draft.feed,
    survey: draft.survey === "" ? "" : "measured",
    destination: draft.to.join(", "),
    check: "",
  };
  return (
    <nav aria-label="Steps" className="mb-5">
      <ol className="grid grid-cols-4">
        {STEPS.map((step, at) => (
          <li key={step.value} className="relative min-w-0 pr-2">
            <span
              aria-hidden="true"
              className={`absolute top-[9px] left-0 w-full border-t-[3px] ${at < here ? "border-flow" : at === STEPS.length - 1 ? "border-transparent" : "border-dashed border-hair"}`}
            />
            <button
              type="button"
              disabled={!isOpen(draft, step.value)}
              aria-current={at === here ? "step" : undefined}
              onClick={() => onStep(step.value)}
              className="relative block max-w-full text-left disabled:text-quiet"
            >
              <span
                aria-hidden="true"
                className={`block size-[21px] rounded-full border-[3px] ${at === here ? "border-ink bg-flow" : at < here ? "border-flow bg-card" : "border-edge bg-card"}`}
              />
              <span
                className={`mt-1 block truncate text-[13px] sm:text-sm ${at === here ? "font-[650]" : "font-[550]"}`}
              >
                {step.label}
              </span>
              <span className="block truncate text-[12.5px] text-quiet">{said[step.value]}</span>
            </button>
          </li>
        ))}
      </ol>
    </nav>
  );
}
