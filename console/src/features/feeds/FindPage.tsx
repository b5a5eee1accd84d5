import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";

import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { PageHead } from "../../ui/Page";
import { May } from "../session";
import { FeedForm, type FeedDraft } from "./components/FeedForm";
import { FeedNav } from "./components/FeedNav";
import { FindPanel } from "./components/FindPanel";

/** Cameras that answer in the local networks. */
export function FindPage(): ReactNode {
  const navigate = useNavigate();
  const [draft, setDraft] = useState<FeedDraft | null>(null);
  return (
    <>
      <PageHead
        name="Find cameras"
        title="Find cameras"
        lead="Searches the local networks, or hosts that you list, for cameras and their streams. Nothing is saved until you add a feed."
      />
      <FeedNav />
      <May role="admin">
        {draft === null ? (
          <FindPanel onChoose={setDraft} />
        ) : (
          <Card
            title={`Add ${draft.name ?? "camera"}`}
            aside={<Button onClick={() => setDraft(null)}>Search again</Button>}
            className="max-w-[880px]"
          >
            <FeedForm draft={draft} onDone={(feed) => void navigate(`/feeds/${encodeURIComponent(feed.name)}`)} />
          </Card>
        )}
      </May>
    </>
  );
}
