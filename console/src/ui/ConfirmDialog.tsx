import * as AlertDialog from "@radix-ui/react-alert-dialog";
import type { ReactNode } from "react";

import { Button } from "./Button";

type Question = {
  title: string;
  /** Effect of the action on broadcasts. */
  children: ReactNode;
  confirm: string;
  onConfirm: () => void;
};

/** Confirmation of a public or destructive action. */
export function ConfirmDialog({ trigger, ...question }: Question & { trigger: ReactNode }): ReactNode {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <Ask {...question} />
    </AlertDialog.Root>
  );
}

type Controlled = Question & { open: boolean; onOpenChange: (open: boolean) => void };

/** The same dialog, controlled by its parent, for triggers that unmount, like menu items. */
export function Confirm({ open, onOpenChange, ...question }: Controlled): ReactNode {
  return (
    <AlertDialog.Root open={open} onOpenChange={onOpenChange}>
      <Ask {...question} />
    </AlertDialog.Root>
  );
}

function Ask({ title, children, confirm, onConfirm }: Question): ReactNode {
  return (
    <AlertDialog.Portal>
      <AlertDialog.Overlay className="fixed inset-0 z-10 bg-shade" />
      <AlertDialog.Content className="fixed top-1/2 left-1/2 z-10 w-[min(440px,calc(100vw-32px))] -translate-x-1/2 -translate-y-1/2 rounded-[10px] border border-hair bg-card p-5 shadow-xl">
        <AlertDialog.Title className="text-lg leading-tight font-[680]">{title}</AlertDialog.Title>
        <AlertDialog.Description className="mt-2 text-quiet">{children}</AlertDialog.Description>
        <div className="mt-5 flex justify-end gap-2">
          <AlertDialog.Cancel asChild>
            <Button>Cancel</Button>
          </AlertDialog.Cancel>
          <AlertDialog.Action asChild>
            <Button kind="danger" onClick={onConfirm}>
              {confirm}
            </Button>
          </AlertDialog.Action>
        </div>
      </AlertDialog.Content>
    </AlertDialog.Portal>
  );
}
