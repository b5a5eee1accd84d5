import * as DropdownMenu from "@radix-ui/react-dropdown-menu";
import type { ReactNode } from "react";

const ITEM =
  "flex items-center gap-2 rounded px-3 py-1.5 outline-none data-[highlighted]:bg-ink data-[highlighted]:text-paper";

/** Menu parts on top of Radix. */
export function Menu({ trigger, children }: { trigger: ReactNode; children: ReactNode }): ReactNode {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>{trigger}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-10 min-w-48 rounded-lg border border-hair bg-card p-1.5 shadow-lg"
        >
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

export function MenuItem({ onSelect, children }: { onSelect: () => void; children: ReactNode }): ReactNode {
  return (
    <DropdownMenu.Item className={ITEM} onSelect={onSelect}>
      {children}
    </DropdownMenu.Item>
  );
}

type ChoiceProps<T extends string> = {
  label: string;
  value: T;
  choices: readonly { value: T; label: string }[];
  onChange: (value: T) => void;
};

export function MenuChoice<T extends string>({ label, value, choices, onChange }: ChoiceProps<T>): ReactNode {
  return (
    <>
      <DropdownMenu.Label className="px-3 py-1 text-xs text-quiet">{label}</DropdownMenu.Label>
      <DropdownMenu.RadioGroup
        value={value}
        onValueChange={(chosen) => {
          const choice = choices.find((each) => each.value === chosen);
          if (choice !== undefined) {
            onChange(choice.value);
          }
        }}
      >
        {choices.map((choice) => (
          <DropdownMenu.RadioItem key={choice.value} value={choice.value} className={ITEM}>
            <span className="w-3">
              <DropdownMenu.ItemIndicator>•</DropdownMenu.ItemIndicator>
            </span>
            {choice.label}
          </DropdownMenu.RadioItem>
        ))}
      </DropdownMenu.RadioGroup>
    </>
  );
}

export function MenuRule(): ReactNode {
  return <DropdownMenu.Separator className="my-1.5 h-px bg-hair" />;
}
