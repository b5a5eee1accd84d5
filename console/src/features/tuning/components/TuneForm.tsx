import { useState, type ReactNode } from "react";

import type { Tuning, TuningReason } from "../../../api/types";
import { listed } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Field, SelectField } from "../../../ui/Field";
import {
  affectedProfiles,
  changedSettings,
  numberText,
  optionsOf,
  proposedValues,
  sizeText,
  type Typed,
} from "../settings";
import { settingName } from "./TuneResult";

type Props = {
  tuning: Tuning;
  disabled: boolean;
  onApply: (settings: ReturnType<typeof changedSettings>, shared: boolean) => void;
  onUndo: () => void;
};

/** Settings of a camera's encoder, filled with those that suit the relays best. */
export function TuneForm({ tuning, disabled, onApply, onUndo }: Props): ReactNode {
  const [typed, setTyped] = useState(() => proposedValues(tuning));
  const [shared, setShared] = useState(false);
  const { configured, offered } = tuning;
  const set = (change: Partial<Typed>) => setTyped({ ...typed, ...change });
  const video = optionsOf(tuning, typed.codec);
  const settings = changedSettings(typed, configured);
  const isUnchanged = Object.keys(settings).length === 0;
  const affected = affectedProfiles(settings, tuning);
  const needsConsent = affected.length > 0 && !shared;
  const now = (before: string, after: string) => {
    const text = before === "" ? "not stated by the camera" : before;
    return before === after ? `now ${text}` : <strong className="font-semibold text-ink">changed from {text}</strong>;
  };
  const fps = numberText(configured.fps);
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        onApply(settings, shared);
      }}
    >
      <Why tuning={tuning} />
      <div className="grid gap-4 sm:grid-cols-3">
        <SelectField
          label="Codec"
          value={typed.codec}
          onChange={(event) => set({ codec: event.target.value })}
          choices={choices(
            offered.video.map((each) => each.codec),
            typed.codec,
          )}
          help={now(configured.codec, typed.codec)}
        />
        <SelectField
          label="Frame size"
          value={typed.size}
          onChange={(event) => set({ size: event.target.value })}
          choices={choices((video?.sizes ?? []).map(sizeText), typed.size)}
          help={now(sizeText(configured), typed.size)}
        />
        <SelectField
          label="Frames per second"
          value={typed.fps}
          onChange={(event) => set({ fps: event.target.value })}
          choices={choices((video?.fps ?? []).map(numberText), typed.fps)}
          help={now(fps, typed.fps)}
        />
        <Field
          label="Bit rate, kbit/s"
          inputMode="numeric"
          value={typed.kbps}
          onChange={(event) => set({ kbps: event.target.value })}
          help={now(numberText(configured.kbps), typed.kbps)}
        />
        <Field
          label="Seconds between keyframes"
          inputMode="decimal"
          value={typed.keyframes}
          onChange={(event) => set({ keyframes: event.target.value })}
          help={now(numberText(configured.keyframe_interval_s), typed.keyframes)}
        />
        {offered.audio.length > 0 && (
          <SelectField
            label="Audio"
            value={typed.audio}
            onChange={(event) => set({ audio: event.target.value })}
            choices={choices(offered.audio, typed.audio)}
            help={now(configured.audio ?? "", typed.audio)}
          />
        )}
      </div>
      {affected.length > 0 && (
        <label className="flex items-center gap-2 text-[13px]">
          <input type="checkbox" checked={shared} onChange={(event) => setShared(event.target.checked)} />
          The streams of {listed(affected)} change, too: they use the same encoder.
        </label>
      )}
      {tuning.on_air.length > 0 && (
        <p className="text-[13px] text-wait">
          On air from this camera: {listed(tuning.on_air)}. Its picture may pause for some seconds.
        </p>
      )}
      <div className="flex flex-wrap justify-end gap-2">
        {tuning.undo != null && (
          <Button kind="plain" type="button" disabled={disabled} onClick={onUndo}>
            Undo the last change
          </Button>
        )}
        <Button kind="strong" type="submit" disabled={disabled || isUnchanged || needsConsent}>
          Change the camera
        </Button>
      </div>
    </form>
  );
}

/** Values of a selection, with the present one. */
function choices(values: readonly string[], present: string): { value: string; label: string }[] {
  const all = values.includes(present) ? values : [present, ...values];
  return all.map((value) => ({ value, label: value === "" ? "—" : value }));
}

/** Reasons for the proposal, and what the camera does not offer. */
function Why({ tuning }: { tuning: Tuning }): ReactNode {
  if (tuning.reasons.length === 0 && tuning.missing.length === 0) {
    return <p className="text-[13px] text-quiet">The settings suit all relays of this feed.</p>;
  }
  return (
    <div className="grid gap-1 text-[13px]">
      <Reasons title="Proposed, because" reasons={tuning.reasons} />
      <Reasons title="Needed, but not offered by the camera" reasons={tuning.missing} />
    </div>
  );
}

function Reasons({ title, reasons }: { title: string; reasons: readonly TuningReason[] }): ReactNode {
  if (reasons.length === 0) {
    return null;
  }
  return (
    <>
      <p className="text-quiet">{title}</p>
      <ul className="grid gap-0.5">
        {reasons.map((each) => (
          <li key={each.setting + (each.destination ?? "")}>
            <strong className="font-semibold">{settingName(each.setting)}</strong>
            {each.destination != null && ` for ${each.destination}`}: {each.reason}.
          </li>
        ))}
      </ul>
    </>
  );
}
