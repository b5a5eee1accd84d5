import type { ReactNode } from "react";

import { Empty } from "../ui/Empty";
import { ButtonLink } from "../ui/Link";

export function NoSuchPage(): ReactNode {
  return (
    <Empty title="Page not found" action={<ButtonLink to="/">To the lines</ButtonLink>}>
      The bookmark may be out of date, or the record was removed.
    </Empty>
  );
}
