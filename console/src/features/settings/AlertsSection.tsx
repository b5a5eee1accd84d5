import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import type { Alert, Contact } from "../../api/types";
import { dayAndTime, duration, listed } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Dialog } from "../../ui/Dialog";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { useToast } from "../../ui/Toast";
import { May } from "../session";
import { AlertForm } from "./components/AlertForm";
import { ContactForm } from "./components/ContactForm";
import {
  alertsQuery,
  contactsQuery,
  useAcknowledge,
  useMute,
  useRemoveAlert,
  useRemoveContact,
  useTestContact,
} from "./queries";

/** Alerts and the contacts of their notifications. */
export function AlertsSection(): ReactNode {
  const alerts = useQuery(alertsQuery());
  const contacts = useQuery(contactsQuery());
  return (
    <div className="grid items-start gap-4 lg:grid-cols-2">
      <Card
        title="Alerts"
        label="Alerts"
        aside={
          <May role="admin">
            <Dialog trigger={<Button>Add an alert</Button>} title="Add an alert">
              {(close) => <AlertForm alert={null} contacts={contacts.data ?? []} onDone={close} />}
            </Dialog>
          </May>
        }
      >
        <QueryBoundary query={alerts}>
          {(data) =>
            data.length === 0 ? (
              <p className="text-quiet">
                No alerts yet. An alert notifies contacts when it fires, optionally at intervals, and when it is
                resolved.
              </p>
            ) : (
              <ul className="grid gap-3">
                {data.map((alert) => (
                  <AlertLine key={alert.name} alert={alert} contacts={contacts.data ?? []} />
                ))}
              </ul>
            )
          }
        </QueryBoundary>
      </Card>
      <Card
        title="Contacts"
        label="Contacts"
        aside={
          <May role="admin">
            <Dialog trigger={<Button>Add a contact</Button>} title="Add a contact">
              {(close) => <ContactForm onDone={close} />}
            </Dialog>
          </May>
        }
      >
        <QueryBoundary query={contacts}>
          {(data) =>
            data.length === 0 ? (
              <p className="text-quiet">No contacts yet. A contact is a signed webhook or a mailbox.</p>
            ) : (
              <ul className="grid gap-3">
                {data.map((contact) => (
                  <ContactLine key={contact.name} contact={contact} />
                ))}
              </ul>
            )
          }
        </QueryBoundary>
      </Card>
    </div>
  );
}

/** Times for which an alert can be muted. */
const MUTES = [
  { label: "Mute for an hour", for_s: 3_600 },
  { label: "Mute for a day", for_s: 86_400 },
] as const;

function AlertLine({ alert, contacts }: { alert: Alert; contacts: readonly Contact[] }): ReactNode {
  const remove = useRemoveAlert();
  const acknowledge = useAcknowledge();
  const mute = useMute();
  const error = acknowledge.error ?? mute.error ?? remove.error;
  return (
    <li className="grid gap-1.5 border-b border-hair pb-3 last:border-0 last:pb-0">
      <p>
        <strong className="font-[650]">{alert.name}</strong>: {alert.when}
        {alert.about != null && ` about ${alert.about}`}, to {alert.to.length === 0 ? "all contacts" : listed(alert.to)}
        {alert.repeat_s > 0 && `, again every ${duration(alert.repeat_s * 1000)}`}
      </p>
      {alert.open.map((open) => (
        <p key={open.subject} className="text-[13px]">
          <strong className="text-block">{open.subject}</strong> {open.message}{" "}
          <span className="text-quiet">since {dayAndTime(open.since)}</span>{" "}
          {open.acknowledged === true ? (
            <span className="text-quiet">· acknowledged</span>
          ) : (
            <May role="operator">
              <Button
                disabled={acknowledge.isPending}
                onClick={() => acknowledge.mutate({ name: alert.name, subject: open.subject })}
              >
                Acknowledge
              </Button>
            </May>
          )}
        </p>
      ))}
      {alert.muted_until != null && (
        <p className="text-[13px] text-wait">Muted until {dayAndTime(alert.muted_until)}.</p>
      )}
      <div className="flex flex-wrap gap-2">
        <May role="operator">
          {alert.muted_until == null ? (
            MUTES.map(({ label, for_s }) => (
              <Button key={label} disabled={mute.isPending} onClick={() => mute.mutate({ name: alert.name, for_s })}>
                {label}
              </Button>
            ))
          ) : (
            <Button disabled={mute.isPending} onClick={() => mute.mutate({ name: alert.name, for_s: 0 })}>
              Unmute
            </Button>
          )}
        </May>
        <May role="admin">
          <Dialog trigger={<Button>Change</Button>} title={`Change ${alert.name}`}>
            {(close) => <AlertForm alert={alert} contacts={contacts} onDone={close} />}
          </Dialog>
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${alert.name}?`}
            confirm="Remove alert"
            onConfirm={() => remove.mutate(alert.name)}
          >
            Its contacts are no longer notified.
          </ConfirmDialog>
        </May>
      </div>
      {error !== null && <ErrorMessage error={error} />}
    </li>
  );
}

function secretText(contact: Contact): string {
  if (contact.secret_lost === true) {
    return ", its secret cannot be decrypted: set it again";
  }
  return contact.has_secret ? ", with a secret" : ", without a secret";
}

function ContactLine({ contact }: { contact: Contact }): ReactNode {
  const remove = useRemoveContact();
  const test = useTestContact();
  const showToast = useToast();
  const { channel } = contact;
  const error = test.error ?? remove.error;
  return (
    <li className="grid gap-1.5 border-b border-hair pb-3 last:border-0 last:pb-0">
      <p>
        <strong className="font-[650]">{contact.name}</strong>:{" "}
        <span className="break-all">
          {channel.type === "webhook" ? channel.url : `mail to ${listed(channel.to)} by ${channel.server}`}
        </span>
        <span className="text-quiet">{secretText(contact)}</span>
      </p>
      <May role="admin">
        <div className="flex gap-2">
          <Button
            disabled={test.isPending}
            onClick={() =>
              test.mutate(contact.name, {
                onSuccess: () => showToast(`${contact.name} was notified; it is marked as a test.`),
              })
            }
          >
            {test.isPending ? "Sending …" : "Test"}
          </Button>
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${contact.name}?`}
            confirm="Remove contact"
            onConfirm={() => remove.mutate(contact.name)}
          >
            A contact that an alert uses cannot be removed.
          </ConfirmDialog>
        </div>
      </May>
      {error !== null && <ErrorMessage error={error} />}
    </li>
  );
}
