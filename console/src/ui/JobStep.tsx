import type { ReactNode } from "react";

import type { JobProgress } from "../api/types";

const BAR =
  "h-1.5 w-full appearance-none bg-hair [&::-moz-progress-bar]:bg-flow [&::-webkit-progress-bar]:bg-hair [&::-webkit-progress-value]:bg-flow";

/** Progress of a job: its step, and a bar where the number of steps is known. */
export function JobStep({ progress, otherwise }: { progress: JobProgress | null; otherwise: string }): ReactNode {
  const step = progress === null || progress.step === "" ? otherwise : progress.step;
  const text = step.charAt(0).toUpperCase() + step.slice(1);
  const total = progress?.total ?? null;
  return (
    <div role="status" className="grid gap-1 text-quiet">
      <p>
        {text} … {progress !== null && total !== null && `${progress.done} of ${total}`}
      </p>
      {progress !== null && total !== null && (
        <progress value={progress.done} max={Math.max(total, 1)} aria-label={text} className={BAR} />
      )}
    </div>
  );
}
