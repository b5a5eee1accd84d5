import * as Dialog from "@radix-ui/react-dialog";
import { useEffect, useRef, useState, type ReactNode } from "react";

import { Button } from "../../ui/Button";
import { playPreview, previewUrl, type PreviewState } from "./player";

type Props = { trigger: ReactNode; feed: string };

/** Shows what a feed sends, live. */
export function PreviewDialog({ trigger, feed }: Props): ReactNode {
  return (
    <Dialog.Root>
      <Dialog.Trigger asChild>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-shade" />
        <Dialog.Content className="fixed top-1/2 left-1/2 w-[min(880px,calc(100vw-32px))] -translate-x-1/2 -translate-y-1/2 rounded-[10px] border border-hair bg-card p-4 shadow-xl">
          <div className="mb-3 flex items-center justify-between gap-3">
            <div className="min-w-0">
              <Dialog.Title className="truncate text-lg leading-tight font-[680]">{feed}</Dialog.Title>
              <Dialog.Description className="text-[13px] text-quiet">
                As it comes from the camera, without sound until you unmute it.
              </Dialog.Description>
            </div>
            <Dialog.Close asChild>
              <Button>Close</Button>
            </Dialog.Close>
          </div>
          <Preview feed={feed} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Preview({ feed }: { feed: string }): ReactNode {
  const video = useRef<HTMLVideoElement>(null);
  const [state, setState] = useState<PreviewState>({ kind: "waiting" });
  useEffect(() => {
    if (video.current === null) {
      return undefined;
    }
    return playPreview(video.current, previewUrl(feed), setState);
  }, [feed]);
  return (
    <>
      <video
        ref={video}
        aria-label={`Live picture of ${feed}`}
        poster={`/api/v1/feeds/${encodeURIComponent(feed)}/still.jpg`}
        controls
        muted
        autoPlay
        playsInline
        className="aspect-video w-full rounded-md bg-black object-contain"
      />
      <p role="status" className="mt-2 min-h-5 text-[13px] text-quiet">
        {sentence(state)}
      </p>
    </>
  );
}

function sentence(state: PreviewState): string {
  switch (state.kind) {
    case "waiting":
      return "Waiting for the next keyframe…";
    case "playing":
      return "Live.";
    case "unsupported":
      return `This browser does not play ${state.mime}. The still picture and the survey work all the same.`;
    case "ended":
      return state.cause === null
        ? "The preview has ended. Open it again to go on."
        : `${state.cause.message} ${state.cause.hint}`;
  }
}
