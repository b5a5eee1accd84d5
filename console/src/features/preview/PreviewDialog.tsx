import type { ReactNode } from "react";

import { Dialog } from "../../ui/Dialog";
import { LivePicture } from "./LivePicture";

type Props = { trigger: ReactNode; feed: string };

/** Shows what a feed sends, live. */
export function PreviewDialog({ trigger, feed }: Props): ReactNode {
  return (
    <Dialog trigger={trigger} title={feed} lead="As it comes from the camera, without sound until you unmute it." wide>
      {() => <LivePicture feed={feed} className="rounded-md" />}
    </Dialog>
  );
}
