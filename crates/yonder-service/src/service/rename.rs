//! Renames of records, and removals: everything that the service watches by name follows them.

use yonder_core::record::Subject;
use yonder_store::{Carried, Kind};

use super::{Service, lock};

/// A record that has another name now.
#[derive(Debug, Clone, Copy)]
pub(super) struct Rename<'a> {
    pub(super) kind: Kind,
    pub(super) old: &'a str,
    pub(super) new: &'a str,
}

impl Rename<'_> {
    fn of(self, kind: Kind, name: &str) -> Option<String> {
        (self.kind == kind && name == self.old).then(|| self.new.to_owned())
    }

    fn pair(self, relay: &str, destination: &str) -> Option<(String, String)> {
        let new = (self.of(Kind::Relay, relay), self.of(Kind::Destination, destination));
        if new == (None, None) {
            return None;
        }
        Some((new.0.unwrap_or_else(|| relay.to_owned()), new.1.unwrap_or_else(|| destination.to_owned())))
    }

    fn subject(self, subject: &Subject) -> Option<Subject> {
        match subject {
            Subject::Feed(feed) => self.of(Kind::Feed, feed).map(Subject::Feed),
            Subject::Relay(relay) => self.of(Kind::Relay, relay).map(Subject::Relay),
            Subject::Push(relay, destination) => {
                self.pair(relay, destination).map(|(relay, destination)| Subject::Push(relay, destination))
            }
        }
    }

    fn carried(self, carried: &Carried) -> Option<Carried> {
        match carried {
            Carried::Feed(feed) => self.of(Kind::Feed, feed).map(Carried::Feed),
            Carried::Uplink(uplink) => self.of(Kind::Uplink, uplink).map(Carried::Uplink),
            Carried::Push(relay, destination) => {
                self.pair(relay, destination).map(|(relay, destination)| Carried::Push(relay, destination))
            }
        }
    }

    /// Returns the new form of a subject of alerts, like `push Line → Bramble`.
    fn alert_subject(self, subject: &str) -> Option<String> {
        let (kind, rest) = subject.split_once(' ')?;
        if kind == "push" {
            let (relay, destination) = rest.split_once(" → ")?;
            let (relay, destination) = self.pair(relay, destination)?;
            return Some(format!("push {relay} → {destination}"));
        }
        self.of(Kind::from_word(kind)?, rest).map(|new| format!("{kind} {new}"))
    }
}

impl Service {
    /// Lets everything that is watched by name follow a rename. To be called under the lock of changes, after the commit.
    pub(super) fn follow_rename(&self, rename: Rename<'_>) {
        lock(&self.recorder).rename_subjects(|subject| rename.subject(subject));
        lock(&self.ledger).rename_subjects(|carried| rename.carried(carried));
        {
            let mut series = lock(&self.series);
            let renamed = std::mem::take(&mut *series).into_iter();
            *series = renamed.map(|(key, value)| (rename.carried(&key).unwrap_or(key), value)).collect();
        }
        {
            let mut book = lock(&self.alarm.book);
            book.rename_subjects(|subject| rename.alert_subject(subject));
            if rename.kind == Kind::Alert {
                book.rename_rule(rename.old, rename.new);
            }
        }
        self.keep_open_alerts_later();
    }

    /// Ends the runs of a removed record, before another record takes its name.
    pub(super) fn follow_removal(&self, kind: Kind) {
        if matches!(kind, Kind::Feed | Kind::Relay | Kind::Destination)
            && let Err(error) = self.look_into_record(false, false)
        {
            tracing::warn!(%error, "the record could not be kept");
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::feed(Kind::Feed, "feed Line", Some("feed East"))]
    #[case::feed_is_no_relay(Kind::Feed, "push Line → Line", None)]
    #[case::relay(Kind::Relay, "push Line → Line", Some("push East → Line"))]
    #[case::destination(Kind::Destination, "push Line → Line", Some("push Line → East"))]
    #[case::key(Kind::Destination, "destination Line", Some("destination East"))]
    #[case::uplink(Kind::Uplink, "uplink Line", Some("uplink East"))]
    #[case::another(Kind::Uplink, "uplink Line two", None)]
    #[case::service(Kind::Relay, "service", None)]
    fn alert_subjects_follow(#[case] kind: Kind, #[case] subject: &str, #[case] expected: Option<&str>) {
        let rename = Rename { kind, old: "Line", new: "East" };
        assert_eq!(rename.alert_subject(subject).as_deref(), expected);
    }
}
