import { useState, type ReactNode } from "react";

import { Button } from "./Button";

/** Text with a button that copies it. */
export function Copy({ label, text }: { label: string; text: string }): ReactNode {
  const [copied, setCopied] = useState(false);
  const copy = () => {
    // The clipboard needs a secure connection; without it the text can be selected.
    void navigator.clipboard?.writeText(text).then(() => setCopied(true));
  };
  return (
    <div className="flex items-stretch gap-2">
      <output
        aria-label={label}
        className="min-w-0 flex-1 rounded-md border border-hair bg-paper px-3 py-2 text-[13px] break-all select-all"
      >
        {text}
      </output>
      <Button onClick={copy}>{copied ? "Copied" : "Copy"}</Button>
    </div>
  );
}
