import {
  useId,
  type InputHTMLAttributes,
  type ReactNode,
  type SelectHTMLAttributes,
  type TextareaHTMLAttributes,
} from "react";

const INPUT =
  "min-h-[38px] w-full min-w-0 rounded-md border border-edge bg-card px-3 py-2 text-ink placeholder:text-quiet aria-invalid:border-block";

type FrameProps = { label: string; help?: ReactNode; error?: string | null | undefined };

/** Label, input, help and error. */
function Frame({ id, label, help, error, children }: FrameProps & { id: string; children: ReactNode }): ReactNode {
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      {children}
      {help !== undefined && (
        <p id={`${id}-help`} className="text-[12.5px] text-quiet">
          {help}
        </p>
      )}
      {error != null && (
        <p id={`${id}-error`} className="text-[12.5px] font-semibold text-block">
          {error}
        </p>
      )}
    </div>
  );
}

function described(id: string, help: ReactNode, error: string | null | undefined): Record<string, string | boolean> {
  const ids = [help === undefined ? "" : `${id}-help`, error == null ? "" : `${id}-error`].filter(
    (each) => each !== "",
  );
  return {
    ...(ids.length === 0 ? {} : { "aria-describedby": ids.join(" ") }),
    ...(error == null ? {} : { "aria-invalid": true }),
  };
}

type Props = InputHTMLAttributes<HTMLInputElement> & FrameProps;

/** Labeled input. */
export function Field({ label, help, error, ...input }: Props): ReactNode {
  const id = useId();
  return (
    <Frame id={id} label={label} help={help} error={error}>
      <input id={id} {...described(id, help, error)} className={INPUT} {...input} />
    </Frame>
  );
}

/** Labeled input for a secret, excluded from password managers. */
export function SecretField(props: Props): ReactNode {
  return <Field type="password" autoComplete="off" spellCheck={false} {...props} />;
}

/** Search field of a list; full width on phones. */
export function SearchField({
  label,
  placeholder = label,
  value,
  onChange,
}: {
  label: string;
  placeholder?: string;
  value: string;
  onChange: (value: string) => void;
}): ReactNode {
  return (
    <input
      type="search"
      aria-label={label}
      placeholder={placeholder}
      value={value}
      onChange={(event) => onChange(event.target.value)}
      className="w-full rounded-md border border-edge bg-card px-3 py-2 placeholder:text-quiet sm:w-[320px]"
    />
  );
}

export function TextField({
  label,
  help,
  error,
  ...area
}: TextareaHTMLAttributes<HTMLTextAreaElement> & FrameProps): ReactNode {
  const id = useId();
  return (
    <Frame id={id} label={label} help={help} error={error}>
      <textarea id={id} rows={3} {...described(id, help, error)} className={INPUT} {...area} />
    </Frame>
  );
}

type Choice = { value: string; label: string };
type SelectProps = SelectHTMLAttributes<HTMLSelectElement> & FrameProps & { choices: readonly Choice[] };

/** Native select field. */
export function SelectField({ label, help, error, choices, ...select }: SelectProps): ReactNode {
  const id = useId();
  return (
    <Frame id={id} label={label} help={help} error={error}>
      <select id={id} {...described(id, help, error)} className={`${INPUT} h-[38px] py-0`} {...select}>
        {choices.map((choice) => (
          <option key={choice.value} value={choice.value}>
            {choice.label}
          </option>
        ))}
      </select>
    </Frame>
  );
}
