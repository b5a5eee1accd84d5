import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Report } from "../../api/types";
import { csv, saveFile, type Row } from "../../lib/csv";
import { dayAndTime } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { Empty } from "../../ui/Empty";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { CausesTable, LinesTable, OutagesTable } from "./components/ReportTables";
import { RecordNav } from "./components/RecordNav";
import { monthText, months } from "./months";
import { reportQuery } from "./queries";

/** A month: how much of the wanted time was up, what was down, and whose side it was. */
export function ReportPage(): ReactNode {
  const [all] = useState(() => months(new Date()));
  const [month, setMonth] = useState(all[0] ?? "");
  const report = useQuery(reportQuery(month));
  return (
    <>
      <PageHead
        name={`Report ${month}`}
        title={`Report, ${monthText(month)}`}
        lead={
          report.data === undefined
            ? ""
            : `${dayAndTime(report.data.from)} to ${dayAndTime(report.data.to)}. Months are counted in UTC.`
        }
        actions={
          <>
            <select
              aria-label="Month"
              value={month}
              onChange={(event) => setMonth(event.target.value)}
              className="rounded-md border border-edge bg-card px-2.5 py-2"
            >
              {all.map((each) => (
                <option key={each} value={each}>
                  {monthText(each)}
                </option>
              ))}
            </select>
            <Button
              disabled={report.data === undefined}
              onClick={() => report.data !== undefined && save(report.data, "sums")}
            >
              Sums as CSV
            </Button>
            <Button
              disabled={report.data === undefined}
              onClick={() => report.data !== undefined && save(report.data, "outages")}
            >
              Outages as CSV
            </Button>
            <Button onClick={() => window.print()}>Print</Button>
          </>
        }
      />
      <RecordNav />
      <QueryBoundary query={report} height={480}>
        {(data) => (data.lines.length === 0 ? <Nothing /> : <Tables report={data} />)}
      </QueryBoundary>
    </>
  );
}

function Nothing(): ReactNode {
  return <Empty title="No broadcasts in this month">No relay was on.</Empty>;
}

function Tables({ report }: { report: Report }): ReactNode {
  const of = (kind: string) => report.lines.filter((line) => line.kind === kind);
  const outages = report.outages.filter((outage) => outage.kind !== "relay");
  return (
    <div className="grid gap-4">
      <Card label="Availability" className="grid gap-5">
        {report.sites.length > 0 && <LinesTable title="Sites" lines={report.sites} />}
        <LinesTable title="Relays" lines={of("relay")} />
        <LinesTable title="Feeds" lines={of("feed")} />
        <LinesTable title="Pushes" lines={of("push")} />
      </Card>
      <Card label="Outages" className="grid gap-5">
        {outages.length === 0 ? (
          <p className="text-quiet">No outage in this month.</p>
        ) : (
          <>
            <CausesTable outages={outages} />
            <OutagesTable outages={outages} />
          </>
        )}
      </Card>
    </div>
  );
}

function save(report: Report, what: "sums" | "outages"): void {
  const sums: Row[] = [...report.sites, ...report.lines].map((line) => [
    line.kind,
    line.name,
    line.part,
    line.wanted_s,
    line.down_s,
    line.outages,
    line.longest_s,
    line.availability_percent,
  ]);
  const outages: Row[] = report.outages.map((outage) => [
    outage.kind,
    outage.name,
    outage.part,
    outage.begin,
    outage.end,
    outage.down_s,
    outage.code,
    outage.side,
    outage.message,
  ]);
  const text =
    what === "sums"
      ? csv(["kind", "name", "destination", "wanted_s", "down_s", "outages", "longest_s", "availability_percent"], sums)
      : csv(["kind", "name", "destination", "begin", "end", "down_s", "code", "side", "message"], outages);
  saveFile(`report-${report.month}-${what}.csv`, new Blob([text], { type: "text/csv" }));
}
