import type { ReactNode } from "react";

import type { WhatIf } from "../../../api/types";
import { Card } from "../../../ui/Card";
import { Field, SelectField } from "../../../ui/Field";
import { Toggle } from "../../../ui/Toggle";

/** Input fields, as typed. */
export type Asked = { more: string; over: NonNullable<WhatIf["over"]>; rate: string; hours: string; all: boolean };

export const NOTHING_ASKED: Asked = { more: "", over: "rtmp", rate: "", hours: "", all: false };

/** Query of the service; null where a number is invalid. */
export function whatIfOf(asked: Asked): WhatIf {
  const more = Number(asked.more);
  const hours = Number(asked.hours);
  return {
    ...(asked.more !== "" && Number.isInteger(more) && more > 0 ? { more, over: asked.over } : {}),
    // A rate is asked for once its unit is there.
    ...(/[a-z]$/i.test(asked.rate.trim()) ? { rate: asked.rate.trim() } : {}),
    ...(asked.hours !== "" && hours > 0 && hours <= 24 ? { hours } : {}),
    ...(asked.all ? { all: true } : {}),
  };
}

/** Budget with hypothetical changes. */
export function WhatIfPanel({ asked, onChange }: { asked: Asked; onChange: (asked: Asked) => void }): ReactNode {
  const set = (change: Partial<Asked>) => onChange({ ...asked, ...change });
  return (
    <Card title="What if" label="What if">
      <div className="grid gap-3">
        <div className="grid grid-cols-2 gap-3">
          <Field
            label="More pushes"
            type="number"
            min={0}
            max={1000}
            placeholder="0"
            value={asked.more}
            onChange={(event) => set({ more: event.target.value })}
            help="At the rate of the largest feed."
          />
          <SelectField
            label="Over"
            value={asked.over}
            onChange={(event) => set({ over: event.target.value as Asked["over"] })}
            choices={[
              { value: "rtmp", label: "RTMP" },
              { value: "rtmps", label: "RTMPS" },
              { value: "srt", label: "SRT" },
            ]}
          />
        </div>
        <div className="grid grid-cols-2 gap-3">
          <Field
            label="Rate of every feed"
            placeholder="3Mbit/s"
            value={asked.rate}
            onChange={(event) => set({ rate: event.target.value })}
          />
          <Field
            label="Hours a day"
            type="number"
            min={0}
            max={24}
            step={0.5}
            placeholder="24"
            value={asked.hours}
            onChange={(event) => set({ hours: event.target.value })}
          />
        </div>
        <Toggle label="Include relays that are off" checked={asked.all} onChange={(all) => set({ all })} />
      </div>
    </Card>
  );
}
