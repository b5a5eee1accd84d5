import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import type { Platform } from "../../api/types";
import { listed } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Dialog } from "../../ui/Dialog";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { May } from "../session";
import { NewSheetForm } from "./components/NewSheetForm";
import { SheetForm } from "./components/SheetForm";
import { platformsQuery, useRemovePlatform } from "./queries";

/** Rule sheets of platforms, which preflights and rehearsals check against. */
export function PlatformsPage(): ReactNode {
  const platforms = useQuery(platformsQuery());
  return (
    <>
      <PageHead
        name="Platforms"
        title="Platforms"
        lead="Rules of each platform, checked by preflights and rehearsals. A rule sheet that ships with the program can be changed; removing your version restores it."
        actions={
          <May role="admin">
            <Dialog trigger={<Button kind="strong">Add a platform</Button>} title="Add a platform">
              {(close) => <NewSheetForm known={platforms.data ?? []} onDone={close} />}
            </Dialog>
          </May>
        }
      />
      <QueryBoundary query={platforms} height={400}>
        {(data) => (
          <div className="gap-3 lg:columns-2 2xl:columns-3">
            {data.map((platform) => (
              <Sheet key={platform.name} platform={platform} />
            ))}
          </div>
        )}
      </QueryBoundary>
    </>
  );
}

function Sheet({ platform }: { platform: Platform }): ReactNode {
  const remove = useRemovePlatform();
  const note = platform.rules.find((rule) => rule.rule === "note")?.value;
  const rules = platform.rules.filter((rule) => rule.rule !== "note" && rule.value !== "");
  return (
    <Card
      label={platform.name}
      title={platform.name}
      aside={platform.shipped ? "built in" : "your own"}
      className="mb-3 break-inside-avoid"
    >
      {note !== undefined && <p className="mb-2 text-[13px] text-quiet">{note}</p>}
      <dl className="grid grid-cols-[minmax(0,160px)_minmax(0,1fr)] gap-x-3 gap-y-1 text-[13px]">
        {rules.map(({ rule, value }) => (
          <div key={rule} className="contents">
            <dt className="text-quiet">{rule}</dt>
            <dd className="font-[550] break-words">{value}</dd>
          </div>
        ))}
      </dl>
      {rules.length === 0 && <p className="text-[13px] text-quiet">No rules: every stream passes.</p>}
      <p className="mt-2 text-[13px] text-quiet">
        {platform.destinations.length === 0 ? "No destination uses it." : `Used by ${listed(platform.destinations)}.`}
      </p>
      <May role="admin">
        <div className="mt-3 flex gap-2">
          <Dialog trigger={<Button>Change</Button>} title={`Rules of ${platform.name}`} wide>
            {(close) => <SheetForm platform={platform} onDone={close} />}
          </Dialog>
          {!platform.shipped && (
            <ConfirmDialog
              trigger={<Button>Remove</Button>}
              title={`Remove the rule sheet of ${platform.name}?`}
              confirm="Remove rule sheet"
              onConfirm={() => remove.mutate(platform.name)}
            >
              No broadcast is affected. If the program ships a rule sheet of this name, that one applies again.
            </ConfirmDialog>
          )}
        </div>
      </May>
      {remove.error !== null && (
        <div className="mt-2">
          <ErrorMessage error={remove.error} />
        </div>
      )}
    </Card>
  );
}
