import * as Radix from "@radix-ui/react-toast";
import { createContext, useCallback, useContext, useState, type ReactNode } from "react";

type Message = { id: number; text: ReactNode };

const ToastContext = createContext<(text: ReactNode) => void>(() => undefined);

/** Toast messages. */
export function useToast(): (text: ReactNode) => void {
  return useContext(ToastContext);
}

export function ToastProvider({ children }: { children: ReactNode }): ReactNode {
  const [messages, setMessages] = useState<readonly Message[]>([]);
  const showToast = useCallback((text: ReactNode) => {
    setMessages((before) => [...before.slice(-2), { id: (before.at(-1)?.id ?? 0) + 1, text }]);
  }, []);
  const forget = (id: number) => setMessages((before) => before.filter((message) => message.id !== id));
  return (
    <ToastContext value={showToast}>
      <Radix.Provider duration={6000} swipeDirection="right">
        {children}
        {messages.map((message) => (
          <Radix.Root
            key={message.id}
            onOpenChange={(open) => !open && forget(message.id)}
            className="flex items-start justify-between gap-3 rounded-lg border border-edge bg-card px-4 py-3 shadow-lg"
          >
            <Radix.Description>{message.text}</Radix.Description>
            <Radix.Close aria-label="Dismiss" className="text-quiet hover:text-ink">
              ✕
            </Radix.Close>
          </Radix.Root>
        ))}
        <Radix.Viewport className="fixed right-4 bottom-4 z-30 grid w-[min(380px,calc(100vw-32px))] gap-2 outline-none" />
      </Radix.Provider>
    </ToastContext>
  );
}
