import type { ReactNode } from "react";

import { Empty } from "../../../ui/Empty";
import { ButtonLink } from "../../../ui/Link";
import { May, useMay } from "../../session";

/** Placeholder before the first relay. */
export function NoLines(): ReactNode {
  const keeps = useMay("admin");
  const action = (
    <May role="admin">
      <ButtonLink strong to="/new">
        Set up a relay
      </ButtonLink>
    </May>
  );
  return (
    <Empty title="No lines yet" action={action}>
      A line is a camera and the platforms that show it: reach the camera, look at its picture and its measured facts,
      paste the platform’s server and key, check, start.{!keeps && " An admin can set one up."}
    </Empty>
  );
}
