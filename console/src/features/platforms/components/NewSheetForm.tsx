import { useState, type FormEvent, type ReactNode } from "react";

import type { Platform } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Fault, faultOf } from "../../../ui/Fault";
import { Field, SelectField } from "../../../ui/Field";
import { useAddPlatform } from "../queries";

/** Begins a sheet, perhaps with the rules of another one. */
export function NewSheetForm({ known, onDone }: { known: readonly Platform[]; onDone: () => void }): ReactNode {
  const add = useAddPlatform();
  const [name, setName] = useState("");
  const [like, setLike] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate({ name, rules: {}, ...(like === "" ? {} : { like }) }, { onSuccess: onDone });
  };
  return (
    <form onSubmit={submit} className="grid gap-4">
      <Field label="Name" required value={name} onChange={(event) => setName(event.target.value)} error={faultOf(add.error, "name")} />
      <SelectField
        label="Begin with the rules of"
        value={like}
        onChange={(event) => setLike(event.target.value)}
        choices={[{ value: "", label: "none" }, ...known.map((each) => ({ value: each.name, label: each.name }))]}
      />
      {add.error !== null && <Fault error={add.error} />}
      <Button kind="strong" type="submit" disabled={add.isPending} className="justify-self-end">
        Add the platform
      </Button>
    </form>
  );
}
