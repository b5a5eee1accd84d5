import * as Radix from "@radix-ui/react-tabs";
import { useEffect, useRef, type ReactNode } from "react";

type Tab = { value: string; label: string; content: ReactNode };

/** Tabs; only the selected content is mounted. */
export function Tabs({
  label,
  tabs,
  value,
  onChange,
}: {
  label: string;
  tabs: readonly Tab[];
  value: string;
  onChange: (value: string) => void;
}): ReactNode {
  const bar = useRef<HTMLDivElement>(null);
  // On phones the selected tab is scrolled into view.
  useEffect(() => {
    bar.current?.querySelector("[data-state=active]")?.scrollIntoView({ inline: "center", block: "nearest" });
  }, [value]);
  return (
    <Radix.Root value={value} onValueChange={onChange}>
      <Radix.List ref={bar} aria-label={label} className="mb-3 flex gap-1 overflow-x-auto border-b border-hair">
        {tabs.map((tab) => (
          <Radix.Trigger
            key={tab.value}
            value={tab.value}
            className="-outline-offset-2 border-b-[3px] border-transparent px-2.5 py-2 font-[550] whitespace-nowrap text-quiet data-[state=active]:border-flow data-[state=active]:text-ink"
          >
            {tab.label}
          </Radix.Trigger>
        ))}
      </Radix.List>
      {tabs.map((tab) => (
        <Radix.Content key={tab.value} value={tab.value}>
          {tab.content}
        </Radix.Content>
      ))}
    </Radix.Root>
  );
}
