import { useMutation, useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { runFileJob } from "../../api/jobs";
import { saveFile } from "../../lib/csv";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { Checks } from "../../ui/Checks";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { May } from "../session";
import { fetchBook, selfcheckQuery } from "./queries";

/** File name with the time. */
function stamped(name: string, ending: string): string {
  return `${name}-${new Date().toISOString().slice(0, 19).replaceAll(":", "")}.${ending}`;
}

/** Backups and health check. */
export function BackupSection(): ReactNode {
  const checks = useQuery(selfcheckQuery());
  const backup = useMutation({
    mutationFn: () => runFileJob(["backup"]),
    onSuccess: (copy) => saveFile(stamped("yonder-backup", "db"), copy),
  });
  const book = useMutation({
    mutationFn: fetchBook,
    onSuccess: (all) =>
      saveFile(
        stamped("yonder-records", "json"),
        new Blob([JSON.stringify(all, null, 2)], { type: "application/json" }),
      ),
  });
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[400px_minmax(0,1fr)]">
      <Card title="Backup" label="Backup">
        <p className="text-[13px] text-quiet">
          A copy of all records as they are now, taken while everything runs. Keys and passwords in it stay sealed: it
          is of can be used only with the master key. <code>yonder restore</code> puts it back.
        </p>
        <div className="mt-3 flex flex-wrap gap-2">
          <May role="admin">
            <Button kind="strong" disabled={backup.isPending} onClick={() => backup.mutate()}>
              {backup.isPending ? "Copying …" : "Download a backup"}
            </Button>
          </May>
          <Button disabled={book.isPending} onClick={() => book.mutate()}>
            Export records as JSON, without secrets
          </Button>
        </div>
        {(backup.error ?? book.error) !== null && (
          <div className="mt-3">
            <ErrorMessage error={(backup.error ?? book.error) as Error} />
          </div>
        )}
      </Card>
      <Card
        title="Health check"
        label="Health"
        aside={
          <button type="button" className="underline decoration-edge" onClick={() => void checks.refetch()}>
            Check again
          </button>
        }
      >
        <QueryBoundary query={checks}>{(data) => <Checks checks={data} />}</QueryBoundary>
      </Card>
    </div>
  );
}
