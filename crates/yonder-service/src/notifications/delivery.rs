//! Delivery of notifications from the outbox, with retries, across restarts and during disk failures.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval};
use yonder_api::AlertMessage;
use yonder_core::alerts::{Batch, Notification, UNREACHABLE_AFTER};
use yonder_store::RecordKind;

use super::Notifications;
use crate::channel;
use yonder_records::time;

/// Interval at which the outbox is checked.
const CHECK_INTERVAL: Duration = Duration::from_secs(1);

impl Notifications {
    /// Delivers notifications until the task is dropped.
    ///
    /// # Cancel safety
    /// Notifications that are being delivered may be delivered once more.
    pub(crate) async fn run_delivery(self: Arc<Self>) {
        let mut ticks = interval(CHECK_INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let due = self.outbox.lock().take_due(time::millis(SystemTime::now()));
            for batch in due {
                let notifications = Arc::clone(&self);
                // Each contact on its own thread, so that an unresponsive one delays no other. The result is in the outbox.
                tokio::task::spawn_blocking(move || notifications.deliver(&batch));
            }
        }
    }

    /// Delivers one batch, and schedules a retry if that fails.
    fn deliver(&self, batch: &Batch) {
        let now_ms = time::millis(SystemTime::now());
        match self.try_to_deliver(batch, now_ms) {
            Ok(()) => {
                if self.outbox.lock().on_delivered(batch) {
                    let detail = "Notifications are delivered again.";
                    self.journal.log_own("notified-again", RecordKind::Contact, &batch.contact, detail);
                }
            }
            Err(error) => {
                let failures = self.outbox.lock().on_failed(&batch.contact, now_ms);
                tracing::warn!(contact = batch.contact, failures, error, "notification not delivered");
                if failures == UNREACHABLE_AFTER {
                    let detail = format!("Notifications are not delivered, and are retried: {error}.");
                    self.journal.log_own("not-notified", RecordKind::Contact, &batch.contact, &detail);
                }
            }
        }
        self.store_later();
    }

    fn try_to_deliver(&self, batch: &Batch, now_ms: i64) -> Result<(), String> {
        let alerting = self.records.alerting();
        let contact = alerting.contacts.iter().find(|contact| contact.name == batch.contact);
        let Some(contact) = contact else { return Ok(()) };
        let channel = self.records.full_channel(contact).map_err(|error| error.to_string())?;
        let secret = self.records.open_contact_secret(contact).map_err(|error| error.to_string())?;
        let Some(message) = joined(&batch.notifications, now_ms) else { return Ok(()) };
        channel::send(&channel, secret.as_ref(), &message).map_err(|error| error.to_string())
    }
}

/// Joins notifications into one message; `None` for none.
fn joined(notifications: &[Notification], now_ms: i64) -> Option<AlertMessage> {
    let [first, others @ ..] = notifications else { return None };
    let single = message(first, now_ms);
    if others.is_empty() {
        return Some(single);
    }
    let messages: Vec<AlertMessage> = notifications.iter().map(|one| message(one, now_ms)).collect();
    let lines = messages.iter().map(|one| format!("{} ({}): {}", one.alert, one.kind, one.message));
    Some(AlertMessage {
        kind: "several".to_owned(),
        alert: format!("{} notifications", messages.len()),
        subject: "several".to_owned(),
        message: lines.collect::<Vec<_>>().join("\n"),
        messages,
        ..single
    })
}

fn message(notification: &Notification, now_ms: i64) -> AlertMessage {
    AlertMessage {
        kind: notification.kind.as_str().to_owned(),
        alert: notification.alert.clone(),
        subject: notification.subject.clone(),
        message: notification.message.clone(),
        since: time::text(time::from_millis(notification.raised_ms)),
        at: time::text(time::from_millis(now_ms)),
        messages: Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yonder_core::alerts::NoticeKind;

    fn notification(subject: &str) -> Notification {
        Notification {
            contact: "desk".into(),
            kind: NoticeKind::Raised,
            alert: "night".into(),
            subject: subject.into(),
            message: format!("The {subject} is down."),
            raised_ms: 1_000,
            at_ms: 1_000,
        }
    }

    #[test]
    fn several_notifications_are_one_message_with_all_of_them() {
        assert_eq!(joined(&[], 5_000), None);
        let one = joined(&[notification("feed a")], 5_000).unwrap();
        assert_eq!((one.kind.as_str(), one.messages.len()), ("raised", 0));
        let both = joined(&[notification("feed a"), notification("feed b")], 5_000).unwrap();
        assert_eq!((both.kind.as_str(), both.alert.as_str()), ("several", "2 notifications"));
        assert_eq!(both.message, "night (raised): The feed a is down.\nnight (raised): The feed b is down.");
        assert_eq!(both.messages[1].subject, "feed b");
    }
}
