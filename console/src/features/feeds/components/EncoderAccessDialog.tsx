import { QRCodeSVG } from "qrcode.react";
import { useState, type ReactNode } from "react";

import type { Feed, RevealedIngest } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Copy } from "../../../ui/Copy";
import { Dialog } from "../../../ui/Dialog";
import { ErrorMessage } from "../../../ui/ErrorMessage";
import { Tabs } from "../../../ui/Tabs";
import { useRevealIngest } from "../queries";

/** Shows what is typed into an encoder, after confirmation. The key is dropped when the dialog closes. */
export function EncoderAccessDialog({ feed, trigger }: { feed: Feed; trigger: ReactNode }): ReactNode {
  const lead = "Anyone with the stream key can publish to this feed. The audit trail records that you revealed it.";
  return (
    <Dialog trigger={trigger} title={`Connect an encoder to ${feed.name}`} lead={lead} wide>
      {() => <Access name={feed.name} />}
    </Dialog>
  );
}

function Access({ name }: { name: string }): ReactNode {
  const reveal = useRevealIngest(name);
  if (reveal.data === undefined) {
    return (
      <div className="grid gap-3">
        {reveal.error !== null && <ErrorMessage error={reveal.error} />}
        <Button kind="danger" disabled={reveal.isPending} onClick={() => reveal.mutate()} className="justify-self-end">
          Reveal server and key
        </Button>
      </div>
    );
  }
  return <Protocols access={reveal.data} />;
}

function Protocols({ access }: { access: RevealedIngest }): ReactNode {
  const tabs = [];
  for (const [label, rtmp] of [
    ["RTMPS", access.rtmps],
    ["RTMP", access.rtmp],
  ] as const) {
    if (rtmp != null) {
      tabs.push({
        value: label,
        label,
        content: (
          <WithCode text={rtmp.joined}>
            <Labeled label="Server" text={rtmp.server} />
            <Labeled label="Stream key" text={rtmp.key} />
            <Labeled label="Joined, for encoders with a single field" text={rtmp.joined} />
            {label === "RTMPS" && access.certificate != null && (
              <Labeled label="Fingerprint of the service's own certificate (SHA-256)" text={access.certificate} />
            )}
          </WithCode>
        ),
      });
    }
  }
  if (access.srt != null) {
    const { address, passphrase, key_length: bits } = access.srt;
    tabs.push({
      value: "SRT",
      label: "SRT",
      content: (
        <WithCode text={address}>
          <Labeled label="Address (caller mode)" text={address} />
          {passphrase != null && <Labeled label={`Passphrase, ${bits ?? 128} bits`} text={passphrase} />}
        </WithCode>
      ),
    });
  }
  const [shown, setShown] = useState(tabs[0]?.value ?? "");
  if (tabs.length === 0) {
    return (
      <div className="grid gap-3">
        <p className="text-wait">
          The service does not listen for encoders. Start it with --ingest-rtmp, --ingest-rtmps or --ingest-srt.
        </p>
        <Labeled label="Stream key" text={access.key} />
      </div>
    );
  }
  return <Tabs label="Protocol" tabs={tabs} value={shown} onChange={setShown} />;
}

function Labeled({ label, text }: { label: string; text: string }): ReactNode {
  return (
    <div className="grid gap-1">
      <span className="text-[13px] text-quiet">{label}</span>
      <Copy label={label} text={text} />
    </div>
  );
}

/** Fields beside a QR code, for the app of a phone. */
function WithCode({ text, children }: { text: string; children: ReactNode }): ReactNode {
  return (
    <div className="grid gap-4 sm:grid-cols-[minmax(0,1fr)_auto]">
      <div className="grid min-w-0 content-start gap-3">{children}</div>
      <figure className="grid justify-items-center gap-1">
        {/* White in every theme, for cameras. */}
        <span className="rounded-md bg-white p-2">
          <QRCodeSVG value={text} size={168} level="M" title="QR code of the address with the key" />
        </span>
        <figcaption className="text-[12.5px] text-quiet">With the key, for a phone</figcaption>
      </figure>
    </div>
  );
}
