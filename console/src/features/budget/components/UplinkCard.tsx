import type { ReactNode } from "react";

import type { UplinkBudget } from "../../../api/types";
import { counted, rate, volume } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { ConfirmDialog } from "../../../ui/ConfirmDialog";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { May } from "../../session";
import { useRemoveUplink } from "../queries";
import { UplinkBar } from "./UplinkBar";
import { UplinkForm } from "./UplinkForm";

const VERDICTS: Record<string, { text: string; tone: string }> = {
  fits: { text: "Fits.", tone: "text-flow" },
  tight: { text: "Tight: the reserve is used.", tone: "text-wait" },
  over: { text: "Does not fit.", tone: "text-block" },
};

/** One uplink: what its pushes need, what it has, and what the month comes to. */
export function UplinkCard({ budget, daysLeft }: { budget: UplinkBudget; daysLeft: number }): ReactNode {
  const { uplink } = budget;
  const verdict = VERDICTS[budget.verdict] ?? VERDICTS["over"];
  const remove = useRemoveUplink();
  const place = uplink.site == null ? "this machine" : `site ${uplink.site}`;
  return (
    <Card
      label={`Uplink ${uplink.name}`}
      title={uplink.name}
      aside={`${place}${uplink.backup ? ", backup" : ""} · ${rate(uplink.up_kbps)} up, ${uplink.headroom_percent} % reserved`}
    >
      <UplinkBar budget={budget} tall />
      <p className="text-[13px]">
        {uplink.backup && <span className="text-quiet">After a failover: </span>}
        <strong className={verdict?.tone}>{verdict?.text}</strong>{" "}
        <span className="font-[550]">{rate(budget.sum_kbps)}</span> of {rate(budget.usable_kbps)} usable,{" "}
        {budget.usable_kbps >= budget.sum_kbps
          ? `${rate(budget.usable_kbps - budget.sum_kbps)} left.`
          : `${rate(budget.sum_kbps - budget.usable_kbps)} too much.`}
      </p>
      <Month budget={budget} daysLeft={daysLeft} />
      {budget.loads.length > 0 && (
        <details className="mt-2 text-[13px]">
          <summary className="cursor-pointer font-semibold">Pushes</summary>
          <ul className="mt-1 grid gap-0.5">
            {budget.loads.map((load) => (
              <li key={load.what} className="flex justify-between gap-3">
                <span className="min-w-0 truncate">{load.what}</span>
                <span className="whitespace-nowrap">{load.kbps == null ? "not measured yet" : rate(load.kbps)}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
      <May role="admin">
        <div className="mt-3 flex gap-2">
          <Dialog trigger={<Button>Change</Button>} title={`Change ${uplink.name}`}>
            {(close) => <UplinkForm uplink={uplink} onDone={close} />}
          </Dialog>
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${uplink.name}?`}
            confirm="Remove uplink"
            onConfirm={() => remove.mutate(uplink.name)}
          >
            Running broadcasts are not affected. Preflights no longer include the uplink, and its traffic figures of
            this month are deleted.
          </ConfirmDialog>
        </div>
        {remove.error !== null && <ErrorMessage error={remove.error} />}
      </May>
    </Card>
  );
}

function Month({ budget, daysLeft }: { budget: UplinkBudget; daysLeft: number }): ReactNode {
  const { uplink, projected_bytes: projected, projected_percent: percent, month_verdict: verdict } = budget;
  const tone = verdict == null ? "" : (VERDICTS[verdict]?.tone ?? "");
  return (
    <p className="mt-1 text-[13px]">
      {volume(uplink.sent_bytes)} sent this month; {volume(projected)} projected, {counted(daysLeft, "day")} left
      {uplink.allowance_bytes == null ? (
        <span className="text-quiet"> (no allowance is set)</span>
      ) : (
        <>
          : <strong className={tone}>{percent} %</strong> of {volume(uplink.allowance_bytes)}
        </>
      )}
      .
    </p>
  );
}
