import * as Checkbox from "@radix-ui/react-checkbox";
import { useId, type ReactNode } from "react";

type Props = { label: ReactNode; help?: ReactNode; checked: boolean; onChange: (checked: boolean) => void };

/** Labeled switch. */
export function Toggle({ label, help, checked, onChange }: Props): ReactNode {
  const id = useId();
  return (
    <div className="flex items-start gap-2.5">
      <Checkbox.Root
        id={id}
        checked={checked}
        onCheckedChange={(value) => onChange(value === true)}
        className="mt-px grid size-[18px] flex-none place-items-center rounded border border-edge bg-card data-[state=checked]:border-flow data-[state=checked]:bg-flow"
      >
        <Checkbox.Indicator>
          <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden="true">
            <path d="M2 6.5 L5 9.5 L10 2.5" className="fill-none stroke-card stroke-2" strokeLinecap="round" />
          </svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      <label htmlFor={id} className="min-w-0">
        <span className="font-semibold">{label}</span>
        {help !== undefined && <span className="block text-[12.5px] text-quiet">{help}</span>}
      </label>
    </div>
  );
}
