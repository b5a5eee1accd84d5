import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";

import type { Platform } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Fault } from "../../../ui/Fault";
import { Field } from "../../../ui/Field";
import { Loaded } from "../../../ui/Loaded";
import { rulesQuery, useEditPlatform } from "../queries";

/** Changes a sheet, rule by rule; an empty one does not apply. */
export function SheetForm({ platform, onDone }: { platform: Platform; onDone: () => void }): ReactNode {
  const rules = useQuery(rulesQuery());
  const edit = useEditPlatform(platform.name);
  const before = new Map(platform.rules.map((rule) => [rule.rule, rule.value]));
  const [typed, setTyped] = useState<ReadonlyMap<string, string>>(before);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const changed = [...typed].filter(([rule, value]) => value !== (before.get(rule) ?? ""));
    edit.mutate(Object.fromEntries(changed), { onSuccess: onDone });
  };
  return (
    <Loaded query={rules}>
      {(all) => (
        <form onSubmit={submit} className="grid gap-4">
          <div className="grid gap-4 sm:grid-cols-2">
            {all.map(({ rule, wants }) => (
              <Field
                key={rule}
                label={rule}
                placeholder={wants}
                help={wants}
                value={typed.get(rule) ?? ""}
                onChange={(event) => setTyped(new Map(typed).set(rule, event.target.value))}
              />
            ))}
          </div>
          {edit.error !== null && <Fault error={edit.error} />}
          <Button kind="strong" type="submit" disabled={edit.isPending} className="justify-self-end">
            Keep the sheet
          </Button>
        </form>
      )}
    </Loaded>
  );
}
