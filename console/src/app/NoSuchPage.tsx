import type { ReactNode } from "react";

import { Empty } from "../ui/Empty";
import { ButtonLink } from "../ui/Link";

export function NoSuchPage(): ReactNode {
  return (
    <Empty title="There is no such page" action={<ButtonLink to="/">To the lines</ButtonLink>}>
      The address may be from an older bookmark, or what it led to was removed.
    </Empty>
  );
}
