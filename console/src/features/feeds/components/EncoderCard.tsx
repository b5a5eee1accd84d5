import type { ReactNode } from "react";

import type { Feed, PublisherFacts } from "../../../api/types";
import { dayAndTime } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Facts } from "../../../ui/Facts";
import { May } from "../../session";
import { EncoderAccessDialog } from "./EncoderAccessDialog";
import { RekeyFeedDialog } from "./RekeyFeedDialog";

type Props = { feed: Feed; publisher: PublisherFacts | null };

/** Access of encoders to a feed, and the encoder that publishes. */
export function EncoderCard({ feed, publisher }: Props): ReactNode {
  const { ingest } = feed;
  if (ingest == null) {
    return null;
  }
  const rows: [string, ReactNode][] =
    publisher === null
      ? [["Encoder", "none publishes"]]
      : [
          ["Encoder", publisher.software ?? "unnamed"],
          ["From", publisher.address],
          ["Protocol", `${publisher.protocol.toUpperCase()}${publisher.encrypted ? ", encrypted" : ""}`],
          ["Since", dayAndTime(publisher.since)],
        ];
  if (publisher?.rtt_ms != null) {
    rows.push(["Round trip", `${publisher.rtt_ms} ms`]);
  }
  rows.push(["Key set", dayAndTime(ingest.key_set_at)]);
  if (ingest.former_key_until != null) {
    rows.push(["Former key", `valid until ${dayAndTime(ingest.former_key_until)}`]);
  }
  rows.push(["SRT", ingest.has_passphrase ? `encrypted, ${ingest.key_length} bits` : "not encrypted"]);
  rows.push(["Site", feed.site ?? "—"]);
  return (
    <>
      <Facts rows={rows} />
      <div className="mt-3 flex flex-wrap gap-2">
        <May role="admin">
          <EncoderAccessDialog feed={feed} trigger={<Button kind="strong">Connect an encoder</Button>} />
        </May>
        <May role="operator">
          <RekeyFeedDialog feed={feed} trigger={<Button>New key</Button>} />
        </May>
      </div>
      {feed.warnings.map((warning) => (
        <p key={warning} className="mt-2 text-[13px] text-wait">
          {warning}
        </p>
      ))}
    </>
  );
}
