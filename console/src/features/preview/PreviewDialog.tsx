import type { ReactNode } from "react";

import { Dialog } from "../../ui/Dialog";
import { LivePicture } from "./LivePicture";

type Props = { trigger: ReactNode; feed: string };

/** Dialog with the live preview. */
export function PreviewDialog({ trigger, feed }: Props): ReactNode {
  return (
    <Dialog trigger={trigger} title={feed} lead="Direct from the camera; muted at first." wide>
      {() => <LivePicture feed={feed} className="rounded-md" />}
    </Dialog>
  );
}
