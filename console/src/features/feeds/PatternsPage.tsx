import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Feed, Pattern } from "../../api/types";
import { counted, listed } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Dialog } from "../../ui/Dialog";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { Link } from "../../ui/Link";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { May } from "../session";
import { FeedNav } from "./components/FeedNav";
import { PatternFill } from "./components/PatternFill";
import { PatternForm } from "./components/PatternForm";
import { placeholderText } from "./components/placeholders";
import { patternsQuery, useRemovePattern } from "./queries";

/** Patterns of camera addresses. */
export function PatternsPage(): ReactNode {
  const patterns = useQuery(patternsQuery());
  const [made, setMade] = useState<readonly Feed[]>([]);
  const actions = (
    <May role="admin">
      <Dialog trigger={<Button kind="strong">Use a pattern</Button>} title="Feeds from a pattern" wide>
        {(close) => (
          <PatternFill
            onDone={(feeds) => {
              setMade(feeds);
              close();
            }}
          />
        )}
      </Dialog>
      <Dialog trigger={<Button>Add a pattern</Button>} title="Add a pattern" wide>
        {(close) => <PatternForm pattern={null} onDone={close} />}
      </Dialog>
    </May>
  );
  return (
    <>
      <PageHead
        name="Address patterns"
        title="Address patterns"
        lead="Stream addresses with placeholders. Fill in host and channel to get the addresses of main and sub stream."
        actions={actions}
      />
      <FeedNav />
      {made.length > 0 && (
        <p role="status" className="mb-4 rounded-md border border-flow px-3 py-2 text-[13px]">
          <strong className="text-flow">{counted(made.length, "camera")} kept:</strong>{" "}
          {made.map((feed, at) => (
            <span key={feed.name}>
              {at > 0 && ", "}
              <Link to={`/feeds/${encodeURIComponent(feed.name)}`}>{feed.name}</Link>
            </span>
          ))}
        </p>
      )}
      <QueryBoundary query={patterns} height={300}>
        {(data) => (
          <div className="grid items-start gap-3 lg:grid-cols-2">
            {data.map((pattern) => (
              <PatternCard key={pattern.name} pattern={pattern} />
            ))}
          </div>
        )}
      </QueryBoundary>
    </>
  );
}

function PatternCard({ pattern }: { pattern: Pattern }): ReactNode {
  const remove = useRemovePattern();
  return (
    <Card label={pattern.name} title={pattern.name} aside={pattern.note}>
      <p className="rounded-md bg-paper px-3 py-2 text-[13px] break-all">{pattern.template}</p>
      <p className="mt-2 text-[13px] text-quiet">{listed((pattern.placeholders ?? []).map(placeholderText))}</p>
      <May role="admin">
        <div className="mt-3 flex gap-2">
          <Dialog trigger={<Button>Change</Button>} title={`Change ${pattern.name}`} wide>
            {(close) => <PatternForm pattern={pattern} onDone={close} />}
          </Dialog>
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${pattern.name}?`}
            confirm="Remove pattern"
            onConfirm={() => remove.mutate(pattern.name)}
          >
            Feeds made from it are not changed.
          </ConfirmDialog>
        </div>
      </May>
      {remove.error !== null && <ErrorMessage error={remove.error} />}
    </Card>
  );
}
