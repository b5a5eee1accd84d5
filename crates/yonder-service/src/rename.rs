//! Renames of records, for everything that is stored by name.

use yonder_core::record::Subject;
use yonder_store::{RecordKind, TrafficKey};

/// Rename of a record.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Rename<'a> {
    pub(crate) kind: RecordKind,
    pub(crate) old: &'a str,
    pub(crate) new: &'a str,
}

impl Rename<'_> {
    fn of(self, kind: RecordKind, name: &str) -> Option<String> {
        (self.kind == kind && name == self.old).then(|| self.new.to_owned())
    }

    fn pair(self, relay: &str, destination: &str) -> Option<(String, String)> {
        let new = (self.of(RecordKind::Relay, relay), self.of(RecordKind::Destination, destination));
        if new == (None, None) {
            return None;
        }
        Some((new.0.unwrap_or_else(|| relay.to_owned()), new.1.unwrap_or_else(|| destination.to_owned())))
    }

    /// Returns the renamed subject of the history.
    pub(crate) fn subject(self, subject: &Subject) -> Option<Subject> {
        match subject {
            Subject::Feed(feed) => self.of(RecordKind::Feed, feed).map(Subject::Feed),
            Subject::Relay(relay) => self.of(RecordKind::Relay, relay).map(Subject::Relay),
            Subject::Push(relay, destination) => {
                self.pair(relay, destination).map(|(relay, destination)| Subject::Push(relay, destination))
            }
        }
    }

    /// Returns the renamed key of traffic and rates.
    pub(crate) fn carried(self, carried: &TrafficKey) -> Option<TrafficKey> {
        match carried {
            TrafficKey::Feed(feed) => self.of(RecordKind::Feed, feed).map(TrafficKey::Feed),
            TrafficKey::Uplink(uplink) => self.of(RecordKind::Uplink, uplink).map(TrafficKey::Uplink),
            TrafficKey::Push(relay, destination) => {
                self.pair(relay, destination).map(|(relay, destination)| TrafficKey::Push(relay, destination))
            }
        }
    }

    /// Returns the renamed subject of an alert, such as `push Line → Bramble`.
    pub(crate) fn alert_subject(self, subject: &str) -> Option<String> {
        let (kind, rest) = subject.split_once(' ')?;
        if kind == "push" {
            let (relay, destination) = rest.split_once(" → ")?;
            let (relay, destination) = self.pair(relay, destination)?;
            return Some(format!("push {relay} → {destination}"));
        }
        self.of(RecordKind::from_name(kind)?, rest).map(|new| format!("{kind} {new}"))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::feed(RecordKind::Feed, "feed Line", Some("feed East"))]
    #[case::feed_is_no_relay(RecordKind::Feed, "push Line → Line", None)]
    #[case::relay(RecordKind::Relay, "push Line → Line", Some("push East → Line"))]
    #[case::destination(RecordKind::Destination, "push Line → Line", Some("push Line → East"))]
    #[case::key(RecordKind::Destination, "destination Line", Some("destination East"))]
    #[case::uplink(RecordKind::Uplink, "uplink Line", Some("uplink East"))]
    #[case::another(RecordKind::Uplink, "uplink Line two", None)]
    #[case::service(RecordKind::Relay, "service", None)]
    pub(crate) fn alert_subjects_follow(
        #[case] kind: RecordKind,
        #[case] subject: &str,
        #[case] expected: Option<&str>,
    ) {
        let rename = Rename { kind, old: "Line", new: "East" };
        assert_eq!(rename.alert_subject(subject).as_deref(), expected);
    }
}
