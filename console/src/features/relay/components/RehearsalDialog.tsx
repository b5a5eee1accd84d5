import { useState, type SyntheticEvent, type ReactNode } from "react";

import type { Rehearsal, Relay } from "../../../api/types";
import { rate } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Checks } from "../../../ui/Checks";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { SelectField } from "../../../ui/Field";
import { CheckBadge } from "../../../ui/CheckBadge";
import { JobStep } from "../../../ui/JobStep";
import { useRehearsal } from "../queries";

/** Pushes to our own grading receiver: the same checks, and nobody watches. */
export function RehearsalDialog({ relay }: { relay: Relay }): ReactNode {
  return (
    <Dialog
      trigger={<Button>Rehearse</Button>}
      title={`Rehearse ${relay.name}`}
      lead="Pushes to a test receiver in the service instead of the platform and grades the stream. Running broadcasts continue."
      wide
    >
      {() => <Run relay={relay} />}
    </Dialog>
  );
}

function Run({ relay }: { relay: Relay }): ReactNode {
  const rehearse = useRehearsal(relay.name);
  const [to, setTo] = useState(relay.pushes[0]?.destination ?? "");
  const [seconds, setSeconds] = useState("15");
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    rehearse.mutate({ to, for_s: Number(seconds) });
  };
  return (
    <div className="grid gap-4">
      <form onSubmit={submit} className="grid items-end gap-3 sm:grid-cols-[1fr_1fr_auto]">
        <SelectField
          label="Destination"
          value={to}
          onChange={(event) => setTo(event.target.value)}
          choices={relay.pushes.map((push) => ({ value: push.destination, label: push.destination }))}
        />
        <SelectField
          label="For"
          value={seconds}
          onChange={(event) => setSeconds(event.target.value)}
          choices={["10", "15", "30", "60"].map((each) => ({ value: each, label: `${each} s` }))}
        />
        <Button kind="strong" type="submit" disabled={rehearse.isPending}>
          {rehearse.isPending ? "Rehearsing …" : "Rehearse"}
        </Button>
      </form>
      {rehearse.isPending && <JobStep progress={rehearse.progress} otherwise="starting the test receiver" />}
      {rehearse.error !== null && <ErrorMessage error={rehearse.error} />}
      {rehearse.data !== undefined && <Result rehearsal={rehearse.data} />}
    </div>
  );
}

function Result({ rehearsal }: { rehearsal: Rehearsal }): ReactNode {
  const { graded } = rehearsal;
  const facts = [
    graded.video_codec == null ? "no video" : `${graded.video_codec} ${graded.width}×${graded.height}`,
    graded.fps == null ? null : `${graded.fps.toFixed(2)} frames/s`,
    rate(graded.video_kbps),
    `keyframes every ${(graded.keyframe_ms / 1000).toFixed(1)} s`,
    graded.audio_codec == null ? "no audio" : `${graded.audio_codec}, ${rate(graded.audio_kbps)}`,
    graded.audio_codec == null ? null : `${graded.skew_ms} ms between picture and sound`,
  ].filter((each) => each !== null);
  return (
    <section aria-label="Received stream" className="grid gap-2">
      <p className="flex flex-wrap items-center gap-x-3">
        <CheckBadge level={rehearsal.level} />
        <span className="text-[13px] text-quiet">{facts.join(" · ")}</span>
      </p>
      {rehearsal.trouble != null && <p className="text-[13px] font-semibold text-block">{rehearsal.trouble}</p>}
      {graded.findings.map((finding) => (
        <p key={finding} className="text-[13px] text-wait">
          {finding}
        </p>
      ))}
      <Checks checks={rehearsal.checks} />
    </section>
  );
}
