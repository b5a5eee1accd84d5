import { useState, type ReactNode } from "react";

import type { Placeholder, Pattern } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, TextField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useSavePattern } from "../queries";
import { readPlaceholder, writePlaceholder } from "./placeholders";

/** An address with placeholders, and what may stand in each. */
export function PatternForm({ pattern, onDone }: { pattern: Pattern | null; onDone: () => void }): ReactNode {
  // The revision at the time when the form was opened.
  const [revision] = useState(pattern?.revision);
  const save = useSavePattern(pattern?.name ?? null, revision);
  const [name, setName] = useState(pattern?.name ?? "");
  const [template, setTemplate] = useState(pattern?.template ?? "");
  const [lines, setLines] = useState((pattern?.placeholders ?? []).map(writePlaceholder).join("\n"));
  const [note, setNote] = useState(pattern?.note ?? "");
  const read = lines
    .split("\n")
    .filter((line) => line.trim() !== "")
    .map((line) => ({ line, placeholder: readPlaceholder(line) }));
  const unread = read.find((each) => each.placeholder === null);
  const submit = () => {
    const placeholders = read
      .map((each) => each.placeholder)
      .filter((placeholder): placeholder is Placeholder => placeholder !== null);
    save.mutate({ name, template, note, placeholders }, { onSuccess: onDone });
  };
  return (
    <Form onSubmit={submit} error={save.error} disabled={save.isPending || unread !== undefined} action="Save pattern">
      <Field
        label="Name"
        required
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={fieldError(save.error, "name")}
      />
      <Field
        label="Address with placeholders"
        required
        spellCheck={false}
        placeholder="rtsp://{host}/ch{channel}/{stream}"
        value={template}
        onChange={(event) => setTemplate(event.target.value)}
        error={fieldError(save.error, "template")}
      />
      <TextField
        label="Placeholders, one per line"
        rows={4}
        spellCheck={false}
        placeholder={"host\nchannel: 1-32 +100\nstream: main=1, sub=2"}
        value={lines}
        onChange={(event) => setLines(event.target.value)}
        help="A name for a text; min-max for a number, +100 for what is added to it, width 3 for its digits; words with what is written for them for a choice."
        error={
          unread === undefined ? fieldError(save.error, "placeholders") : `“${unread.line.trim()}” cannot be read.`
        }
      />
      <Field label="Note" value={note} onChange={(event) => setNote(event.target.value)} />
    </Form>
  );
}
