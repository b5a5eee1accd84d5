//! Supervision of what a relay sends: its feed, or the holding picture.

use std::time::Duration;

/// What a relay shall send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Showing {
    /// The feed, as far as it flows.
    Feed,
    /// The feed; the holding picture if it is still away at that time.
    FeedUntil(Duration),
    /// The holding picture.
    Holding,
}

/// Decides when the holding picture is shown.
///
/// A relay whose feed never flowed has nothing to hold: no size is known, and no broadcast runs.
#[derive(Debug, Clone)]
pub struct HoldMachine {
    after: Option<Duration>,
    wanted: bool,
    has_flowed: bool,
    away_since: Option<Duration>,
}

impl HoldMachine {
    /// A relay that shows the holding picture once its feed has been away for `after`; `None` never does so by
    /// itself.
    #[must_use]
    pub fn new(after: Option<Duration>) -> Self {
        Self { after, wanted: false, has_flowed: false, away_since: None }
    }

    /// Another time to wait before the holding picture.
    pub fn set_after(&mut self, after: Option<Duration>) {
        self.after = after;
    }

    /// A person wants the holding picture, or the feed.
    pub fn want_hold(&mut self, wanted: bool) {
        self.wanted = wanted;
    }

    /// The holding picture is wanted by a person.
    #[must_use]
    pub fn is_wanted(&self) -> bool {
        self.wanted
    }

    /// The feed flows, or no longer; `last_picture` is when a picture last came.
    pub fn on_feed(&mut self, flows: bool, last_picture: Option<Duration>, now: Duration) {
        if flows {
            self.has_flowed = true;
            self.away_since = None;
        } else if self.has_flowed {
            self.away_since.get_or_insert_with(|| last_picture.unwrap_or(now).min(now));
        }
    }

    /// What is to be sent at `now`.
    #[must_use]
    pub fn decide(&self, now: Duration) -> Showing {
        if !self.has_flowed {
            return Showing::Feed;
        }
        if self.wanted {
            return Showing::Holding;
        }
        match (self.away_since, self.after) {
            (Some(since), Some(after)) if now >= since + after => Showing::Holding,
            (Some(since), Some(after)) => Showing::FeedUntil(since + after),
            _ => Showing::Feed,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[test]
    fn an_absence_is_held_after_the_time_that_was_set_and_until_the_feed_returns() {
        let mut machine = HoldMachine::new(Some(s(3)));
        machine.on_feed(true, None, s(0));
        assert_eq!(machine.decide(s(5)), Showing::Feed);
        // A stall is noticed late; what counts is when the last picture came.
        machine.on_feed(false, Some(s(10)), s(12));
        assert_eq!(machine.decide(s(12)), Showing::FeedUntil(s(13)));
        machine.on_feed(false, Some(s(12)), s(12));
        assert_eq!(machine.decide(s(13)), Showing::Holding);
        machine.on_feed(true, None, s(60));
        assert_eq!(machine.decide(s(60)), Showing::Feed);
    }

    #[test]
    fn nothing_is_held_before_there_was_a_picture() {
        let mut machine = HoldMachine::new(Some(s(3)));
        machine.want_hold(true);
        machine.on_feed(false, None, s(0));
        assert_eq!(machine.decide(s(100)), Showing::Feed);
        machine.on_feed(true, None, s(101));
        assert_eq!(machine.decide(s(101)), Showing::Holding);
    }

    #[test]
    fn a_person_holds_a_feed_that_flows_and_resumes_it() {
        let mut machine = HoldMachine::new(None);
        machine.on_feed(true, None, s(0));
        machine.want_hold(true);
        assert_eq!(machine.decide(s(1)), Showing::Holding);
        machine.want_hold(false);
        assert_eq!(machine.decide(s(2)), Showing::Feed);
    }

    #[test]
    fn a_relay_that_shall_not_hold_waits() {
        let mut machine = HoldMachine::new(None);
        machine.on_feed(true, None, s(0));
        machine.on_feed(false, None, s(1));
        assert_eq!(machine.decide(s(1_000)), Showing::Feed);
        machine.set_after(Some(s(5)));
        assert_eq!(machine.decide(s(6)), Showing::Holding);
    }
}
