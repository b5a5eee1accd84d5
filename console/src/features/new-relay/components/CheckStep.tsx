import { useMutation, useQuery } from "@tanstack/react-query";
import { type SyntheticEvent, type ReactNode } from "react";
import { useNavigate } from "react-router";

import { isFail } from "../../../lib/states";
import { call } from "../../../api/client";
import type { Check, NewRelay, Relay } from "../../../api/types";
import { listed } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { Checks } from "../../../ui/Checks";
import { ErrorMessage, fieldError } from "../../../ui/ErrorMessage";
import { Field } from "../../../ui/Field";
import { JobStep } from "../../../ui/JobStep";
import { relaysQuery, useSwitch } from "../../lines";
import { useEditRelay, usePreflight } from "../../relay";
import { TuneButton } from "../../tuning";
import type { StepProps } from "../NewRelayPage";

/** Names, checks and starts the relay. */
export function CheckStep({ draft, change, onStarted }: StepProps & { onStarted: () => void }): ReactNode {
  const relays = useQuery(relaysQuery());
  const relay = relays.data?.find((each) => each.name.toLowerCase() === draft.name.trim().toLowerCase());
  // The relay was saved by an earlier visit.
  const isOurs = relay !== undefined && relay.feed.name === draft.feed && sameNames(relay, draft.to);
  return (
    <Card label="Check and start">
      <p className="mb-4">
        <strong className="font-[650]">{draft.feed}</strong> to{" "}
        <strong className="font-[650]">{listed(draft.to)}</strong>
      </p>
      {isOurs ? <Ready relay={relay} onStarted={onStarted} /> : <NameIt draft={draft} change={change} />}
    </Card>
  );
}

type Adapt = NonNullable<Check["adapt"]>;

/** The adaptation that solves all failed checks that one can solve; null without any. */
function wantedAdaptation(checks: readonly Check[]): Adapt | null {
  const wanted = checks.map((check) => check.adapt ?? null).filter((adapt) => adapt !== null);
  return wanted.includes("all") ? "all" : (wanted[0] ?? null);
}

function sameNames(relay: Relay, to: readonly string[]): boolean {
  const names = relay.pushes.map((push) => push.destination);
  return names.length === to.length && names.every((name) => to.includes(name));
}

function NameIt({ draft, change }: StepProps): ReactNode {
  const add = useMutation({ mutationFn: (relay: NewRelay) => call<Relay>("POST", ["relays"], relay) });
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    add.mutate({ name: draft.name, feed: draft.feed, to: [...draft.to] });
  };
  return (
    <form onSubmit={submit} className="grid gap-4">
      <Field
        label="Name of the relay"
        required
        value={draft.name}
        onChange={(event) => change({ name: event.target.value })}
        help="Shown in the list of lines. The relay is saved, and off until you start it."
        error={fieldError(add.error, "name")}
      />
      {add.error !== null && <ErrorMessage error={add.error} />}
      <Button kind="strong" type="submit" disabled={add.isPending} className="justify-self-end">
        Save and check
      </Button>
    </form>
  );
}

function Ready({ relay, onStarted }: { relay: Relay; onStarted: () => void }): ReactNode {
  const navigate = useNavigate();
  const preflight = usePreflight(relay.name);
  const change = useSwitch(relay.name);
  const start = (verb: "start" | "force") =>
    change.mutate(verb, {
      onSuccess: () => {
        onStarted();
        void navigate(`/relays/${encodeURIComponent(relay.name)}`);
      },
    });
  const edit = useEditRelay(relay.name, relay.revision);
  const checks = preflight.data;
  const adapt = wantedAdaptation(checks?.checks ?? []);
  const adaptAndCheck = (what: Adapt) => edit.mutate({ adapt: what }, { onSuccess: () => preflight.mutate() });
  const failed = checks !== undefined && isFail(checks.level);
  return (
    <div className="grid gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <Button
          kind={checks === undefined ? "strong" : "plain"}
          disabled={preflight.isPending}
          onClick={() => preflight.mutate()}
        >
          {preflight.isPending ? "Checking …" : checks === undefined ? "Run the preflight" : "Check again"}
        </Button>
        <p className="text-[13px] text-quiet">
          Pulls the camera and probes the servers for some seconds. No key and no media are sent.
        </p>
      </div>
      {preflight.isPending && (
        <JobStep progress={preflight.progress} otherwise="measuring the feed, and probing the servers" />
      )}
      {preflight.error !== null && <ErrorMessage error={preflight.error} />}
      {checks !== undefined && <Checks checks={checks.checks} />}
      <TuneButton feed={relay.feed.name} checks={checks?.checks ?? []} onTuned={preflight.mutate} />
      {change.error !== null && <ErrorMessage error={change.error} />}
      {edit.error !== null && <ErrorMessage error={edit.error} />}
      {checks !== undefined && (
        <div className="flex flex-wrap justify-end gap-2">
          {adapt !== null && (
            <Button kind="plain" disabled={edit.isPending || preflight.isPending} onClick={() => adaptAndCheck(adapt)}>
              {adapt === "all" ? "Adapt audio and video" : "Adapt audio"}
            </Button>
          )}
          {failed && (
            <Button kind="danger" disabled={change.isPending} onClick={() => start("force")}>
              Start anyway
            </Button>
          )}
          <Button kind="strong" disabled={change.isPending || failed} onClick={() => start("start")}>
            {change.isPending ? "Starting …" : `Start ${relay.name}`}
          </Button>
        </div>
      )}
    </div>
  );
}
