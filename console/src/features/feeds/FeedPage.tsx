import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";

import type { Feed } from "../../api/types";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Dialog } from "../../ui/Dialog";
import { Empty } from "../../ui/Empty";
import { Facts } from "../../ui/Facts";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { ButtonLink, Link } from "../../ui/Link";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { State } from "../../ui/State";
import { CauseNote, relaysQuery } from "../lines";
import { PreviewDialog } from "../preview";
import { May, useMay } from "../session";
import { TuneDialog } from "../tuning";
import { EncoderCard } from "./components/EncoderCard";
import { FeedForm } from "./components/FeedForm";
import { IngestForm } from "./components/IngestForm";
import { SurveyPanel } from "./components/SurveyPanel";
import { feedsQuery, publishedRefetch, useRemoveFeed } from "./queries";

/** One camera or encoder: its address or access, its relays, and what a survey measures. */
export function FeedPage(): ReactNode {
  const { name = "" } = useParams();
  const feeds = useQuery({ ...feedsQuery(), refetchInterval: publishedRefetch(name) });
  return (
    <QueryBoundary query={feeds} height={400}>
      {(data) => {
        const feed = data.find((each) => each.name === name);
        return feed === undefined ? (
          <Empty title={`There is no feed ${name}`} action={<ButtonLink to="/feeds">To the feeds</ButtonLink>}>
            It may have been renamed or removed.
          </Empty>
        ) : (
          <FeedView feed={feed} />
        );
      }}
    </QueryBoundary>
  );
}

function FeedView({ feed }: { feed: Feed }): ReactNode {
  const relays = useQuery(relaysQuery());
  const navigate = useNavigate();
  const remove = useRemoveFeed();
  const [asked, setAsked] = useSearchParams();
  const measures = useMay("operator");
  const using = (relays.data ?? []).filter((relay) => relay.feed.name === feed.name);
  const state = using[0]?.feed;
  const isPublished = feed.ingest != null;
  const Edit = isPublished ? IngestForm : FeedForm;
  const actions = (
    <>
      <PreviewDialog feed={feed.name} trigger={<Button>Watch</Button>} />
      <May role="admin">
        {!isPublished && <TuneDialog feed={feed.name} trigger={<Button>Camera settings</Button>} />}
        <Dialog
          trigger={<Button>Change</Button>}
          title={`Change ${feed.name}`}
          wide
          lead={changeText(using.length, isPublished)}
        >
          {(close) => (
            <Edit
              feed={feed}
              onDone={(done) => {
                close();
                void navigate(`/feeds/${encodeURIComponent(done.name)}`, { replace: true });
              }}
            />
          )}
        </Dialog>
        {using.length === 0 && (
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${feed.name}?`}
            confirm={isPublished ? "Remove feed and key" : "Remove feed and password"}
            onConfirm={() => remove.mutate(feed.name, { onSuccess: () => void navigate("/feeds") })}
          >
            No relay uses it. Logbook entries are retained.
          </ConfirmDialog>
        )}
      </May>
    </>
  );
  return (
    <>
      <PageHead
        name={feed.name}
        title={feed.name}
        crumbs={<Link to="/feeds">Feeds</Link>}
        lead={<State word={state?.state ?? feed.state} />}
        actions={actions}
      />
      {remove.error !== null && <ErrorMessage error={remove.error} />}
      <div className="grid items-start gap-4 lg:grid-cols-[360px_minmax(0,1fr)]">
        <Card title={isPublished ? "Encoder" : "Address"} label={isPublished ? "Encoder" : "Address"}>
          {isPublished ? (
            <EncoderCard feed={feed} publisher={state?.publisher ?? feed.publisher ?? null} />
          ) : (
            <Address feed={feed} />
          )}
          {state?.cause != null && (
            <div className="mt-3">
              <CauseNote note={{ cause: state.cause, about: [feed.name] }} />
            </div>
          )}
          <h3 className="mt-3 text-[13px] font-semibold">Relays</h3>
          <p className="text-[13px]">
            {using.length === 0 && <span className="text-quiet">No relay uses it.</span>}
            {using.map((relay, at) => (
              <span key={relay.name}>
                {at > 0 && ", "}
                <Link to={`/relays/${encodeURIComponent(relay.name)}`}>{relay.name}</Link>
              </span>
            ))}
          </p>
        </Card>
        <Card title="Survey" label="Survey">
          {measures ? (
            <SurveyPanel
              key={feed.name}
              of={{ feed: feed.name }}
              id={asked.get("survey")}
              onBegun={(id) => setAsked({ survey: id }, { replace: true })}
              isPublished={isPublished}
            />
          ) : (
            <p className="text-[13px] text-quiet">
              {isPublished
                ? "Operators can run a survey, which measures the encoder's stream for ten seconds."
                : "Operators can run a survey, which pulls the camera for ten seconds per stream."}
            </p>
          )}
        </Card>
      </div>
    </>
  );
}

function changeText(relays: number, isPublished: boolean): string {
  if (isPublished) {
    return "An encoder that publishes stays connected. Its next connection needs the changed passphrase.";
  }
  return relays === 0
    ? "No broadcast is affected."
    : "A changed address, account or transport reconnects to the camera. Meanwhile the broadcasts show their holding pictures.";
}

function passwordText(feed: Feed): string {
  if (feed.secret_lost === true) {
    return ", its password cannot be decrypted: set it again";
  }
  return feed.has_password ? ", password stored" : "";
}

function Address({ feed }: { feed: Feed }): ReactNode {
  const rows: [string, string][] = [["Main", feed.url]];
  if (feed.sub_url != null) {
    rows.push(["Sub", feed.sub_url]);
  }
  rows.push(["Account", feed.user == null ? "none" : `${feed.user}${passwordText(feed)}`]);
  rows.push(["Transport", feed.transport === "auto" ? "automatic" : feed.transport.toUpperCase()]);
  if (feed.pin != null) {
    rows.push(["Certificate", feed.pin]);
  }
  if (feed.device != null) {
    rows.push(["Device", feed.device]);
  }
  rows.push(["Site", feed.site ?? "—"]);
  return (
    <>
      <Facts rows={rows} />
      {feed.warnings.map((warning) => (
        <p key={warning} className="mt-2 text-[13px] text-wait">
          {warning}
        </p>
      ))}
    </>
  );
}
