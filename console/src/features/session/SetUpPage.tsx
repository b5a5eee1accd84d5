import { useState, type ReactNode } from "react";

import { EntryForm } from "./EntryForm";

/** The page behind the one-time link. Its code stands behind the `#`, so that it is never sent by itself. */
export function SetUpPage(): ReactNode {
  const [code] = useState(() => window.location.hash.slice(1));
  return (
    <EntryForm
      title="Set up the first person"
      lead="Choose the name and password that you will sign in with. This link works once."
      action="Set up and sign in"
      code={code}
    />
  );
}
