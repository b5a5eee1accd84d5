import * as Radix from "@radix-ui/react-dialog";
import { useState, type ReactNode } from "react";

import { Button } from "./Button";

type Props = {
  trigger: ReactNode;
  title: string;
  lead?: ReactNode;
  wide?: boolean;
  /** Content of the dialog, with a function that closes it. */
  children: (close: () => void) => ReactNode;
};

/** Dialog; its content is created again each time it opens. */
export function Dialog({ trigger, title, lead, wide = false, children }: Props): ReactNode {
  const [open, setOpen] = useState(false);
  return (
    <Radix.Root open={open} onOpenChange={setOpen}>
      <Radix.Trigger asChild>{trigger}</Radix.Trigger>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-10 bg-shade" />
        <Radix.Content
          {...(lead === undefined ? { "aria-describedby": undefined } : {})}
          className={`fixed top-1/2 left-1/2 z-10 max-h-[calc(100vh-24px)] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded-[10px] border border-hair bg-card p-5 shadow-xl ${wide ? "w-[min(880px,calc(100vw-24px))]" : "w-[min(520px,calc(100vw-24px))]"}`}
        >
          <div className="mb-4 flex items-start justify-between gap-3">
            <div className="min-w-0">
              <Radix.Title className="text-lg leading-tight font-[680]">{title}</Radix.Title>
              {lead !== undefined && (
                <Radix.Description className="mt-1 text-[13px] text-quiet">{lead}</Radix.Description>
              )}
            </div>
            <Radix.Close asChild>
              <Button>Close</Button>
            </Radix.Close>
          </div>
          {children(() => setOpen(false))}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
