//! Outbox of notifications: each is retried until it is delivered, or replaced by a later one about the same subject.

use std::collections::{BTreeMap, BTreeSet};

use super::NoticeKind;

/// Retry delays after consecutive failures, in milliseconds; the last one repeats.
const RETRY_DELAYS_MS: [i64; 5] = [2_000, 20_000, 120_000, 300_000, 900_000];
/// Maximum notifications in one message.
const MAX_JOINED: usize = 50;
/// Maximum undelivered notifications; the oldest are dropped beyond it.
const MAX_PENDING: usize = 5_000;
/// Consecutive failures after which a contact counts as unreachable.
pub const UNREACHABLE_AFTER: u32 = 3;

/// A notification for one contact.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notification {
    /// Name of the contact.
    pub contact: String,
    /// Kind.
    pub kind: NoticeKind,
    /// Name of the alert.
    pub alert: String,
    /// Subject.
    pub subject: String,
    /// One or two sentences.
    pub message: String,
    /// When the alert was raised, in milliseconds since 1970.
    pub raised_ms: i64,
    /// Time of the notification, in milliseconds since 1970.
    pub at_ms: i64,
}

impl Notification {
    fn has_same_subject(&self, other: &Self) -> bool {
        (&self.contact, &self.alert, &self.subject) == (&other.contact, &other.alert, &other.subject)
    }
}

/// Notifications that are delivered together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Batch {
    /// Name of the contact.
    pub contact: String,
    /// Notifications, oldest first.
    pub notifications: Vec<Notification>,
}

/// Consecutive failures of a contact.
#[derive(Debug, Clone, Copy)]
struct Retry {
    failures: u32,
    next_ms: i64,
}

/// Outbox of undelivered notifications.
///
/// A failing contact does not delay the others. Notifications for the same contact are joined.
#[derive(Debug, Default)]
pub struct Outbox {
    pending: Vec<Notification>,
    retries: BTreeMap<String, Retry>,
    in_flight: BTreeSet<String>,
    is_changed: bool,
}

impl Outbox {
    /// Restores the notifications that were undelivered when the service ended.
    #[must_use]
    pub fn resume(pending: Vec<Notification>) -> Self {
        Self { pending, ..Self::default() }
    }

    /// Adds a notification. An undelivered one about the same subject is replaced.
    pub fn push(&mut self, notification: Notification) {
        self.pending.retain(|known| !known.has_same_subject(&notification));
        self.pending.push(notification);
        let excess = self.pending.len().saturating_sub(MAX_PENDING);
        self.pending.drain(..excess);
        self.is_changed = true;
    }

    /// Returns the batches that are due: at most one for each contact, and none for a contact with a delivery in progress.
    pub fn take_due(&mut self, now_ms: i64) -> Vec<Batch> {
        let mut batches: BTreeMap<&str, Vec<Notification>> = BTreeMap::new();
        for notification in &self.pending {
            let contact = notification.contact.as_str();
            let is_due = self.retries.get(contact).is_none_or(|retry| retry.next_ms <= now_ms);
            if is_due && !self.in_flight.contains(contact) {
                let batch = batches.entry(contact).or_default();
                if batch.len() < MAX_JOINED {
                    batch.push(notification.clone());
                }
            }
        }
        let batch =
            |(contact, notifications): (&str, _)| Batch { contact: contact.to_owned(), notifications };
        let batches: Vec<Batch> = batches.into_iter().map(batch).collect();
        self.in_flight.extend(batches.iter().map(|batch| batch.contact.clone()));
        batches
    }

    /// Removes a delivered batch. Returns true if the contact had been unreachable.
    pub fn on_delivered(&mut self, batch: &Batch) -> bool {
        self.in_flight.remove(&batch.contact);
        // A notification that replaced one of the batch meanwhile stays.
        self.pending.retain(|known| !batch.notifications.contains(known));
        self.is_changed = true;
        let failures = self.retries.remove(&batch.contact).map_or(0, |retry| retry.failures);
        failures >= UNREACHABLE_AFTER
    }

    /// Schedules the next attempt for a contact that failed. Returns the number of consecutive failures.
    pub fn on_failed(&mut self, contact: &str, now_ms: i64) -> u32 {
        self.in_flight.remove(contact);
        let failures = self.retries.get(contact).map_or(0, |retry| retry.failures).saturating_add(1);
        let [.., last] = RETRY_DELAYS_MS;
        let at = usize::try_from(failures - 1).unwrap_or(usize::MAX);
        let delay = RETRY_DELAYS_MS.get(at).copied().unwrap_or(last);
        self.retries.insert(contact.to_owned(), Retry { failures, next_ms: now_ms + delay });
        failures
    }

    /// Names of the contacts that cannot be reached.
    pub fn unreachable(&self) -> impl Iterator<Item = &str> {
        let failing = self.retries.iter().filter(|(_, retry)| retry.failures >= UNREACHABLE_AFTER);
        failing.map(|(contact, _)| contact.as_str())
    }

    /// Renames a contact in its notifications, and makes them due: its settings have changed.
    pub fn rename_contact(&mut self, before: &str, after: &str) {
        for notification in self.pending.iter_mut().filter(|known| known.contact == before) {
            after.clone_into(&mut notification.contact);
        }
        self.retries.remove(before);
        self.is_changed = true;
    }

    /// Drops the notifications of removed contacts.
    pub fn retain_contacts(&mut self, is_known: impl Fn(&str) -> bool) {
        let before = self.pending.len();
        self.pending.retain(|known| is_known(&known.contact));
        self.retries.retain(|contact, _| is_known(contact));
        self.is_changed |= self.pending.len() != before;
    }

    /// Undelivered notifications.
    #[must_use]
    pub fn pending(&self) -> &[Notification] {
        &self.pending
    }

    /// Returns all undelivered notifications if they have changed since the last call, to be stored.
    pub fn take_changes(&mut self) -> Option<Vec<Notification>> {
        std::mem::take(&mut self.is_changed).then(|| self.pending.clone())
    }

    /// Marks the notifications as changed, after a failed write.
    pub fn mark_changed(&mut self) {
        self.is_changed = true;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn notification(contact: &str, kind: NoticeKind, subject: &str) -> Notification {
        Notification {
            contact: contact.into(),
            kind,
            alert: "night".into(),
            subject: subject.into(),
            message: "It is down.".into(),
            raised_ms: 1_000,
            at_ms: 1_000,
        }
    }

    fn raised(contact: &str, subject: &str) -> Notification {
        notification(contact, NoticeKind::Raised, subject)
    }

    #[test]
    fn notification_is_retried_until_it_is_delivered() {
        let mut outbox = Outbox::default();
        outbox.push(raised("desk", "feed a"));
        let mut now = 0;
        let mut times = Vec::new();
        for _ in 0..8 {
            let batch = outbox.take_due(now).remove(0);
            assert_eq!(outbox.take_due(now + 10_000_000), [], "it is being tried");
            times.push(now / 1_000);
            outbox.on_failed(&batch.contact, now);
            let later = (now..).step_by(1_000).find(|at| {
                let due = !outbox.take_due(*at).is_empty();
                outbox.in_flight.clear();
                due
            });
            now = later.unwrap();
        }
        assert_eq!(times, [0, 2, 22, 142, 442, 1_342, 2_242, 3_142], "the last delay repeats for ever");
        let batch = outbox.take_due(now).remove(0);
        assert!(outbox.on_delivered(&batch), "it had been unreachable");
        assert_eq!((outbox.pending().len(), outbox.unreachable().count()), (0, 0));
    }

    #[test]
    fn notifications_for_a_failing_contact_are_joined_without_delaying_others() {
        let mut outbox = Outbox::default();
        outbox.push(raised("desk", "feed a"));
        outbox.take_due(0);
        outbox.on_failed("desk", 0);
        outbox.push(raised("desk", "feed b"));
        outbox.push(raised("phone", "feed b"));
        let due = outbox.take_due(1_000);
        assert_eq!(due.iter().map(|batch| batch.contact.as_str()).collect::<Vec<_>>(), ["phone"]);
        let due = outbox.take_due(2_000);
        let subjects: Vec<_> = due[0].notifications.iter().map(|known| known.subject.as_str()).collect();
        assert_eq!(subjects, ["feed a", "feed b"]);
    }

    #[test]
    fn an_undelivered_notification_is_replaced_by_the_next_about_its_subject() {
        let mut outbox = Outbox::default();
        outbox.push(raised("desk", "feed a"));
        let tried = outbox.take_due(0).remove(0);
        outbox.push(notification("desk", NoticeKind::Resolved, "feed a"));
        assert_eq!(outbox.pending().len(), 1);
        // The first one was delivered after all, so the resolution must be delivered as well.
        outbox.on_delivered(&tried);
        assert_eq!(outbox.pending()[0].kind, NoticeKind::Resolved);
    }

    #[test]
    fn changed_contact_is_retried_at_once_and_removed_one_is_dropped() {
        let mut outbox = Outbox::default();
        outbox.push(raised("desk", "feed a"));
        outbox.take_due(0);
        for _ in 0..UNREACHABLE_AFTER {
            outbox.on_failed("desk", 0);
        }
        assert_eq!(outbox.unreachable().collect::<Vec<_>>(), ["desk"]);
        outbox.rename_contact("desk", "night desk");
        assert_eq!(outbox.take_due(0)[0].contact, "night desk");
        outbox.retain_contacts(|contact| contact != "night desk");
        assert_eq!(outbox.pending(), []);
    }

    #[rstest]
    #[case(MAX_JOINED + 5, MAX_JOINED)]
    #[case(3, 3)]
    fn a_message_joins_a_bounded_number(#[case] waiting: usize, #[case] joined: usize) {
        let mut outbox = Outbox::default();
        for at in 0..waiting {
            outbox.push(raised("desk", &format!("feed {at}")));
        }
        assert_eq!(outbox.take_due(0)[0].notifications.len(), joined);
    }

    #[test]
    fn changes_are_returned_once_and_again_after_a_failed_write() {
        let mut outbox = Outbox::resume(vec![raised("desk", "feed a")]);
        assert_eq!(outbox.take_changes(), None);
        outbox.push(raised("desk", "feed b"));
        assert_eq!(outbox.take_changes().map(|all| all.len()), Some(2));
        assert_eq!(outbox.take_changes(), None);
        outbox.mark_changed();
        assert!(outbox.take_changes().is_some());
    }

    #[test]
    fn memory_is_bounded() {
        let mut outbox = Outbox::default();
        for at in 0..MAX_PENDING + 10 {
            outbox.push(raised("desk", &at.to_string()));
        }
        assert_eq!((outbox.pending().len(), outbox.pending()[0].subject.as_str()), (MAX_PENDING, "10"));
    }
}
