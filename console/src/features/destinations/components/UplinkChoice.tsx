import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Toggle } from "../../../ui/Toggle";
import { uplinksQuery } from "../../budget";

type Props = { chosen: readonly string[]; onChange: (chosen: readonly string[]) => void };

/** Uplinks that pushes are bound to, in the order in which they are tried; without any, the system chooses. */
export function UplinkChoice({ chosen, onChange }: Props): ReactNode {
  const uplinks = useQuery(uplinksQuery());
  const bindable = (uplinks.data ?? []).filter((uplink) => uplink.source != null || uplink.interface != null);
  if (bindable.length === 0 && chosen.length === 0) {
    return null;
  }
  const names = [...new Set([...chosen, ...bindable.map((uplink) => uplink.name)])];
  return (
    <fieldset className="grid gap-2">
      <legend className="mb-1 font-semibold">Uplinks</legend>
      {names.map((name) => {
        const at = chosen.indexOf(name);
        return (
          <Toggle
            key={name}
            label={at < 0 ? name : `${at + 1}. ${name}`}
            checked={at >= 0}
            onChange={(checked) => onChange(checked ? [...chosen, name] : chosen.filter((each) => each !== name))}
          />
        );
      })}
      <p className="text-[12.5px] text-quiet">
        The first uplink is preferred; pushes fail over to the next one, and back.
      </p>
    </fieldset>
  );
}
