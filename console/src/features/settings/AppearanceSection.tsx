import * as Radio from "@radix-ui/react-radio-group";
import { useId, useState, type ReactNode } from "react";

import { keepTheme, keptTheme, type ThemeChoice } from "../../lib/theme";
import { Card } from "../../ui/Card";

const CHOICES: readonly { value: ThemeChoice; label: string; help: string }[] = [
  { value: "system", label: "Like the system", help: "Follows the system’s light or dark setting." },
  { value: "paper", label: "Paper", help: "Dark ink on warm paper." },
  { value: "night", label: "Night", help: "For a dark room." },
];

/** Theme of this browser. */
export function AppearanceSection(): ReactNode {
  const [theme, setTheme] = useState<ThemeChoice>(keptTheme);
  const id = useId();
  const change = (value: string) => {
    const choice = CHOICES.find((each) => each.value === value)?.value ?? "system";
    setTheme(choice);
    keepTheme(choice);
  };
  return (
    <Card title="Appearance" label="Appearance" aside="kept in this browser" className="max-w-[560px]">
      <Radio.Root aria-label="Appearance" value={theme} onValueChange={change} className="grid gap-2.5">
        {CHOICES.map((choice) => (
          <div key={choice.value} className="flex items-start gap-2.5">
            <Radio.Item
              id={`${id}-${choice.value}`}
              value={choice.value}
              className="mt-px grid size-[18px] flex-none place-items-center rounded-full border border-edge bg-card data-[state=checked]:border-flow"
            >
              <Radio.Indicator className="size-2.5 rounded-full bg-flow" />
            </Radio.Item>
            <label htmlFor={`${id}-${choice.value}`}>
              <span className="font-semibold">{choice.label}</span>
              <span className="block text-[12.5px] text-quiet">{choice.help}</span>
            </label>
          </div>
        ))}
      </Radio.Root>
    </Card>
  );
}
