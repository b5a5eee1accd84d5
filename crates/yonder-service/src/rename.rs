//! Renames of records, which everything that is kept by name follows.

use yonder_core::record::Subject;
use yonder_store::{Carried, Kind};

/// A record that has a new name.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Rename<'a> {
    pub(crate) kind: Kind,
    pub(crate) old: &'a str,
    pub(crate) new: &'a str,
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

    /// Returns the new form of a subject of the history.
    pub(crate) fn subject(self, subject: &Subject) -> Option<Subject> {
        match subject {
            Subject::Feed(feed) => self.of(Kind::Feed, feed).map(Subject::Feed),
            Subject::Relay(relay) => self.of(Kind::Relay, relay).map(Subject::Relay),
            Subject::Push(relay, destination) => {
                self.pair(relay, destination).map(|(relay, destination)| Subject::Push(relay, destination))
            }
        }
    }

    /// Returns the new form of a subject of traffic and rates.
    pub(crate) fn carried(self, carried: &Carried) -> Option<Carried> {
        match carried {
            Carried::Feed(feed) => self.of(Kind::Feed, feed).map(Carried::Feed),
            Carried::Uplink(uplink) => self.of(Kind::Uplink, uplink).map(Carried::Uplink),
            Carried::Push(relay, destination) => {
                self.pair(relay, destination).map(|(relay, destination)| Carried::Push(relay, destination))
            }
        }
    }

    /// Returns the new form of a subject of alerts, like `push Line → Bramble`.
    pub(crate) fn alert_subject(self, subject: &str) -> Option<String> {
        let (kind, rest) = subject.split_once(' ')?;
        if kind == "push" {
            let (relay, destination) = rest.split_once(" → ")?;
            let (relay, destination) = self.pair(relay, destination)?;
            return Some(format!("push {relay} → {destination}"));
        }
        self.of(Kind::from_word(kind)?, rest).map(|new| format!("{kind} {new}"))
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
    pub(crate) fn alert_subjects_follow(
        #[case] kind: Kind,
        #[case] subject: &str,
        #[case] expected: Option<&str>,
    ) {
        let rename = Rename { kind, old: "Line", new: "East" };
        assert_eq!(rename.alert_subject(subject).as_deref(), expected);
    }
}
