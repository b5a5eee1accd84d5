import type { ReactNode } from "react";

import type { Signpost, SignpostState } from "../../../api/types";
import { counted, grouped, volume } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { Copy } from "../../../ui/Copy";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { Facts } from "../../../ui/Facts";
import { Link } from "../../../ui/Link";
import { May } from "../../session";
import { usePauseSignpost, useRemoveSignpost } from "../queries";
import { SignpostForm } from "./SignpostForm";

const STATES: Record<SignpostState, { text: string; tone: string }> = {
  live: { text: "live", tone: "text-flow" },
  interrupted: { text: "interrupted", tone: "text-lag" },
  "off-air": { text: "off air", tone: "text-off" },
  paused: { text: "paused", tone: "text-hold" },
};

/** Card of a signpost: state, addresses and viewers. */
export function SignpostCard({ signpost }: { signpost: Signpost }): ReactNode {
  const pause = usePauseSignpost(signpost.name);
  const remove = useRemoveSignpost();
  const { links, state } = signpost;
  const error = pause.error ?? remove.error;
  return (
    <Card
      label={signpost.name}
      title={signpost.title}
      aside={<span className={`font-semibold ${STATES[state].tone}`}>{STATES[state].text}</span>}
    >
      <Facts rows={rowsOf(signpost)} />
      {links != null && (
        <div className="mt-3">
          <Copy label={`Link of ${signpost.name}`} text={links.page} />
        </div>
      )}
      <div className="mt-3 flex flex-wrap gap-2">
        {links != null && (
          <Dialog
            trigger={<Button>Addresses</Button>}
            title={`Addresses of ${signpost.name}`}
            lead="The code keeps the shape of the picture at any width."
            wide
          >
            {() => <Addresses links={links} />}
          </Dialog>
        )}
        <May role="operator">
          <Button disabled={pause.isPending} onClick={() => pause.mutate(state !== "paused")}>
            {state === "paused" ? "Resume" : "Pause"}
          </Button>
        </May>
        <May role="admin">
          <Dialog trigger={<Button>Change</Button>} title={`Change ${signpost.name}`} wide>
            {(close) => <SignpostForm signpost={signpost} onDone={close} />}
          </Dialog>
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${signpost.name}?`}
            confirm="Remove signpost"
            onConfirm={() => remove.mutate(signpost.name)}
          >
            Its link leads nowhere from then on, also on the websites that show it.
          </ConfirmDialog>
        </May>
      </div>
      {error !== null && (
        <div className="mt-3">
          <ErrorMessage error={error} />
        </div>
      )}
    </Card>
  );
}

function rowsOf(signpost: Signpost): [string, ReactNode][] {
  const { relay, player, to, leads_to: page, max_viewers: most, daily_bytes: daily } = signpost;
  const watchPages = to.length === 0 ? "watch pages of the relay" : to.join(", then ");
  const rows: [string, ReactNode][] = [
    [
      "Relay",
      <Link key="relay" to={`/relays/${encodeURIComponent(relay)}`}>
        {relay}
      </Link>,
    ],
    ["Leads to", player ? `its own player, else ${watchPages}` : watchPages],
  ];
  if (page != null) {
    rows.push([
      "Now",
      <a key="page" href={page} target="_blank" rel="noreferrer" className="underline decoration-edge">
        {page}
      </a>,
    ]);
  }
  if (player) {
    const today = `${counted(signpost.viewers_today, "viewer")} and ${volume(signpost.bytes_today)}`;
    rows.push(
      ["Viewers", `${grouped(signpost.viewers)} of ${grouped(most)}`],
      ["Today", daily == null ? today : `${today} of ${volume(daily)}`],
    );
  }
  if (signpost.unlisted) {
    rows.push(["Listed", "no, search engines are asked not to"]);
  }
  return rows;
}

function Addresses({ links }: { links: NonNullable<Signpost["links"]> }): ReactNode {
  const rows = [
    ["Page", links.page],
    ["Redirect to the live page", links.go],
    ["HLS playlist", links.playlist],
    ["Status page", links.status],
    ["Code for a website", links.snippet],
  ] as const;
  return (
    <div className="grid gap-3">
      {rows.map(
        ([label, text]) =>
          text != null && (
            <div key={label} className="grid gap-1">
              <span className="text-[13px] text-quiet">{label}</span>
              <Copy label={label} text={text} />
            </div>
          ),
      )}
    </div>
  );
}
