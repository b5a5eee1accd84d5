import * as Radix from "@radix-ui/react-tooltip";
import type { ReactNode } from "react";

export function TooltipProvider({ children }: { children: ReactNode }): ReactNode {
  return <Radix.Provider delayDuration={300}>{children}</Radix.Provider>;
}

/** Tooltip on hover and on focus. */
export function Tooltip({ text, children }: { text: ReactNode; children: ReactNode }): ReactNode {
  return (
    <Radix.Root>
      <Radix.Trigger asChild>{children}</Radix.Trigger>
      <Radix.Portal>
        <Radix.Content
          sideOffset={6}
          className="z-20 max-w-80 rounded-md bg-ink px-2.5 py-1.5 text-[12.5px] text-paper shadow-lg"
        >
          {text}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
