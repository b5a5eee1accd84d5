import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Platform } from "../../../api/types";
import { Field } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { QueryBoundary } from "../../../ui/QueryBoundary";
import { rulesQuery, useEditPlatform } from "../queries";

/** Changes a sheet, rule by rule; an empty one does not apply. */
export function SheetForm({ platform, onDone }: { platform: Platform; onDone: () => void }): ReactNode {
  const rules = useQuery(rulesQuery());
  // The revision at the time when the form was opened.
  const [revision] = useState(platform.revision ?? undefined);
  const edit = useEditPlatform(platform.name, revision);
  const before = new Map(platform.rules.map((rule) => [rule.rule, rule.value]));
  const [typed, setTyped] = useState<ReadonlyMap<string, string>>(before);
  const submit = () => {
    const changed = [...typed].filter(([rule, value]) => value !== (before.get(rule) ?? ""));
    edit.mutate(Object.fromEntries(changed), { onSuccess: onDone });
  };
  return (
    <QueryBoundary query={rules}>
      {(all) => (
        <Form onSubmit={submit} error={edit.error} disabled={edit.isPending} action="Save rule sheet">
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
        </Form>
      )}
    </QueryBoundary>
  );
}
