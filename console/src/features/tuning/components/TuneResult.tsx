import type { ReactNode } from "react";

import type { TuningResult } from "../../../api/types";

const OUTCOMES: Record<string, string> = {
  applied: "applied",
  adjusted: "adjusted by the camera",
  pending: "stored, not sent yet",
  ignored: "ignored",
  unmeasured: "stored, not measured",
};

const NAMES: Record<string, string> = {
  codec: "Codec",
  size: "Frame size",
  "frame-rate": "Frame rate",
  "bit-rate": "Bit rate",
  keyframes: "Keyframes",
  audio: "Audio",
};

/** Name of a setting, as it is shown. */
export function settingName(setting: string): string {
  return NAMES[setting] ?? setting;
}

/** Result of a change: reported and measured values. */
export function TuneResult({ result }: { result: TuningResult }): ReactNode {
  return (
    <section aria-label="Result" className="grid gap-2 text-[13px]">
      <p className={`font-semibold ${result.verified ? "text-flow" : "text-wait"}`}>
        {result.message}
        {result.next_step != null && <span className="font-normal text-quiet"> {result.next_step}</span>}
      </p>
      {result.settings.length > 0 && (
        <div className="overflow-x-auto">
          <table className="w-full text-left">
            <thead className="text-quiet">
              <tr>
                {["Setting", "Before", "Requested", "Reported", "Measured", "Result"].map((name) => (
                  <th key={name} className="py-1 pr-3 font-normal">
                    {name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {result.settings.map((each) => (
                <tr key={each.setting} className="border-t border-hair">
                  <th className="py-1 pr-3 font-semibold">{settingName(each.setting)}</th>
                  {[each.before, each.wanted, each.reported, each.measured].map((value, at) => (
                    <td key={at} className="py-1 pr-3 whitespace-nowrap">
                      {value === "" ? "—" : value}
                    </td>
                  ))}
                  <td className="py-1 whitespace-nowrap">{OUTCOMES[each.outcome] ?? each.outcome}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
