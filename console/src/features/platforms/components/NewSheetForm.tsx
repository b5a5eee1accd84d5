import { useState, type ReactNode } from "react";

import type { Platform } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useAddPlatform } from "../queries";

/** Begins a sheet, perhaps with the rules of another one. */
export function NewSheetForm({ known, onDone }: { known: readonly Platform[]; onDone: () => void }): ReactNode {
  const add = useAddPlatform();
  const [name, setName] = useState("");
  const [like, setLike] = useState("");
  const submit = () => {
    add.mutate({ name, rules: {}, ...(like === "" ? {} : { like }) }, { onSuccess: onDone });
  };
  return (
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Add platform">
      <Field
        label="Name"
        required
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={fieldError(add.error, "name")}
      />
      <SelectField
        label="Copy the rules of"
        value={like}
        onChange={(event) => setLike(event.target.value)}
        choices={[{ value: "", label: "none" }, ...known.map((each) => ({ value: each.name, label: each.name }))]}
      />
    </Form>
  );
}
