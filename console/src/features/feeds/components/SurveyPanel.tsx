import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Survey } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { May } from "../../session";
import { TuneDialog } from "../../tuning";
import { surveyQuery, useBeginSurvey, type SurveyOf } from "../queries";
import { SurveyStreamCard } from "./SurveyStreamCard";

type Props = {
  of: SurveyOf;
  /** Number of a survey that was begun before, to be shown again. */
  id?: string | null;
  onBegun?: (id: string) => void;
  /** An encoder publishes the feed. */
  isPublished?: boolean;
};

/** Measures main and sub side by side, with a picture of each, and says what to make of it. */
export function SurveyPanel({ of, id = null, onBegun, isPublished = false }: Props): ReactNode {
  const begin = useBeginSurvey();
  const [own, setOwn] = useState<string | null>(id);
  const survey = useQuery({ ...surveyQuery(own ?? ""), enabled: own !== null });
  const start = () =>
    begin.mutate(of, {
      onSuccess: (begun) => {
        setOwn(begun.id);
        onBegun?.(begun.id);
      },
    });
  const isUnderWay = begin.isPending || (survey.data !== undefined && !survey.data.done);
  return (
    <div className="grid gap-3">
      <div className="flex flex-wrap items-center gap-3">
        <Button kind={own === null ? "strong" : "plain"} disabled={isUnderWay} onClick={start}>
          {isUnderWay ? "Measuring …" : own === null ? "Run survey" : "Repeat survey"}
        </Button>
        <p className="text-[13px] text-quiet">
          {isPublished
            ? "Measures the encoder's stream for ten seconds while it publishes."
            : "Pulls main and sub stream for ten seconds each and measures them. A running feed is measured on its existing connection."}
        </p>
      </div>
      {begin.error !== null && <ErrorMessage error={begin.error} />}
      {survey.error !== null && own !== null && <ErrorMessage error={survey.error} />}
      {survey.data !== undefined && <Result survey={survey.data} />}
    </div>
  );
}

const ABOUT: Record<string, string> = { main: "Main stream.", sub: "Sub stream.", both: "Both." };

function Result({ survey }: { survey: Survey }): ReactNode {
  return (
    <>
      <div className={`grid gap-3 ${survey.sub == null ? "" : "md:grid-cols-2"}`}>
        <SurveyStreamCard id={survey.id} name="main" stream={survey.main} done={survey.done} />
        {survey.sub != null && <SurveyStreamCard id={survey.id} name="sub" stream={survey.sub} done={survey.done} />}
      </div>
      {survey.advice.length > 0 && (
        <section aria-label="Advice">
          <h3 className="font-[650]">Findings</h3>
          <ul className="mt-1 grid gap-1 text-[13px]">
            {survey.advice.map((advice) => (
              <li key={advice.code + advice.about}>
                <strong>{ABOUT[advice.about] ?? advice.about}</strong> {advice.message}{" "}
                <span className="text-quiet">· {advice.code}</span>
              </li>
            ))}
          </ul>
          {survey.feed != null && survey.advice.some((advice) => advice.tune === true) && (
            <May role="admin">
              <div className="mt-2">
                <TuneDialog feed={survey.feed} trigger={<Button>Camera settings</Button>} />
              </div>
            </May>
          )}
        </section>
      )}
    </>
  );
}
