import { useId, type InputHTMLAttributes, type ReactNode } from "react";

type Props = InputHTMLAttributes<HTMLInputElement> & { label: string; help?: string };

/** A labelled input. */
export function Field({ label, help, ...input }: Props): ReactNode {
  const id = useId();
  return (
    <div className="grid gap-1">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      <input
        id={id}
        aria-describedby={help === undefined ? undefined : `${id}-help`}
        className="rounded-md border border-edge bg-card px-3 py-2 text-ink placeholder:text-quiet"
        {...input}
      />
      {help !== undefined && (
        <p id={`${id}-help`} className="text-[12.5px] text-quiet">
          {help}
        </p>
      )}
    </div>
  );
}
