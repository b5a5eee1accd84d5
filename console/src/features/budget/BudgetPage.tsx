import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState, type ReactNode } from "react";

import type { Budget } from "../../api/types";
import { rate } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { Dialog } from "../../ui/Dialog";
import { Empty } from "../../ui/Empty";
import { SelectField } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { May } from "../session";
import { FitsChart } from "./components/FitsChart";
import { UplinkCard } from "./components/UplinkCard";
import { UplinkForm } from "./components/UplinkForm";
import { NOTHING_ASKED, WhatIfPanel, whatIfOf } from "./components/WhatIfPanel";
import { budgetQuery } from "./queries";

/** Will it fit: bit rates against uplinks, the month's traffic against allowances, and what would be, if. */
export function BudgetPage(): ReactNode {
  const [asked, setAsked] = useState(NOTHING_ASKED);
  const [destinations, setDestinations] = useState(1);
  const whatIf = useDeferredValue(whatIfOf(asked));
  const budget = useQuery(budgetQuery({ ...whatIf, destinations }));
  const isAsked = Object.keys(whatIf).length > 0;
  const lead = isAsked
    ? "Calculated with these assumptions. Nothing is changed."
    : "Rates of the pushes, with protocol overhead, against the capacity of the uplinks.";
  return (
    <>
      <PageHead
        name="Budget"
        title={isAsked ? "Budget, what if" : "Budget"}
        lead={lead}
        actions={
          <May role="admin">
            <Dialog trigger={<Button>Add an uplink</Button>} title="Add an uplink">
              {(close) => <UplinkForm uplink={null} onDone={close} />}
            </Dialog>
          </May>
        }
      />
      <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_360px]">
        <QueryBoundary query={budget} height={400}>
          {(data) => <Uplinks budget={data} destinations={destinations} onDestinations={setDestinations} />}
        </QueryBoundary>
        <div className="grid gap-4">
          <WhatIfPanel asked={asked} onChange={setAsked} />
        </div>
      </div>
    </>
  );
}

type Props = { budget: Budget; destinations: number; onDestinations: (destinations: number) => void };

function Uplinks({ budget, destinations, onDestinations }: Props): ReactNode {
  const [shown, setShown] = useState(0);
  const fits = budget.fits[Math.min(shown, budget.fits.length - 1)];
  return (
    <div className="grid min-w-0 gap-4">
      {budget.uplinks.length === 0 && (
        <Empty title="No uplinks yet">
          Add the upload rate of this machine’s connection, and preflights check whether another push fits.
        </Empty>
      )}
      {budget.uplinks.map((each) => (
        <UplinkCard key={each.uplink.name} budget={each} daysLeft={budget.days_left} />
      ))}
      {budget.undescribed.length > 0 && (
        <Card title="Traffic on unknown uplinks" label="Unknown uplinks">
          <ul className="grid gap-0.5 text-[13px]">
            {budget.undescribed.map((load) => (
              <li key={load.what} className="flex justify-between gap-3">
                <span className="min-w-0 truncate">{load.what}</span>
                <span className="whitespace-nowrap">{load.kbps == null ? "not measured yet" : rate(load.kbps)}</span>
              </li>
            ))}
          </ul>
        </Card>
      )}
      {fits !== undefined && (
        <Card title="Capacity of this uplink" label="Capacity">
          <div className="mb-3 grid gap-3 sm:grid-cols-2">
            <SelectField
              label="Uplink"
              value={String(shown)}
              onChange={(event) => setShown(Number(event.target.value))}
              choices={budget.fits.map((each, at) => ({ value: String(at), label: each.uplink }))}
            />
            <SelectField
              label="Destinations"
              value={String(destinations)}
              onChange={(event) => onDestinations(Number(event.target.value))}
              choices={[1, 2, 3, 4, 6, 8, 12, 16].map((count) => ({ value: String(count), label: String(count) }))}
            />
          </div>
          <FitsChart fits={fits} />
        </Card>
      )}
    </div>
  );
}
