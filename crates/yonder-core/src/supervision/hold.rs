//! Supervision of what a relay sends: its feed, or the holding picture.

use std::time::Duration;

/// Source that a relay's output shall have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HoldDecision {
    /// The feed, as far as it flows.
    Feed,
    /// The feed; the slate if the feed is still away at this time.
    FeedUntil(Duration),
    /// The slate.
    Slate,
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

    /// Handles a slate that is known from before a restart: an absence is held although the feed has not flowed yet.
    pub fn on_slate_known(&mut self) {
        self.has_flowed = true;
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

    /// Returns the source to be sent at `now`.
    #[must_use]
    pub fn decide(&self, now: Duration) -> HoldDecision {
        if !self.has_flowed {
            return HoldDecision::Feed;
        }
        if self.wanted {
            return HoldDecision::Slate;
        }
        match (self.away_since, self.after) {
            (Some(since), Some(after)) if now >= since + after => HoldDecision::Slate,
            (Some(since), Some(after)) => HoldDecision::FeedUntil(since + after),
            _ => HoldDecision::Feed,
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
        assert_eq!(machine.decide(s(5)), HoldDecision::Feed);
        // A stall is noticed late; what counts is when the last picture came.
        machine.on_feed(false, Some(s(10)), s(12));
        assert_eq!(machine.decide(s(12)), HoldDecision::FeedUntil(s(13)));
        machine.on_feed(false, Some(s(12)), s(12));
        assert_eq!(machine.decide(s(13)), HoldDecision::Slate);
        machine.on_feed(true, None, s(60));
        assert_eq!(machine.decide(s(60)), HoldDecision::Feed);
    }

    #[test]
    fn nothing_is_held_before_there_was_a_picture() {
        let mut machine = HoldMachine::new(Some(s(3)));
        machine.want_hold(true);
        machine.on_feed(false, None, s(0));
        assert_eq!(machine.decide(s(100)), HoldDecision::Feed);
        machine.on_feed(true, None, s(101));
        assert_eq!(machine.decide(s(101)), HoldDecision::Slate);
    }

    #[test]
    fn known_slate_is_held_after_a_restart_without_the_camera() {
        let mut machine = HoldMachine::new(Some(s(3)));
        machine.on_slate_known();
        machine.on_feed(false, None, s(10));
        assert_eq!(machine.decide(s(10)), HoldDecision::FeedUntil(s(13)));
        assert_eq!(machine.decide(s(13)), HoldDecision::Slate);
        machine.on_feed(true, None, s(60));
        assert_eq!(machine.decide(s(60)), HoldDecision::Feed);
    }

    #[test]
    fn a_person_holds_a_feed_that_flows_and_resumes_it() {
        let mut machine = HoldMachine::new(None);
        machine.on_feed(true, None, s(0));
        machine.want_hold(true);
        assert_eq!(machine.decide(s(1)), HoldDecision::Slate);
        machine.want_hold(false);
        assert_eq!(machine.decide(s(2)), HoldDecision::Feed);
    }

    #[test]
    fn a_relay_that_shall_not_hold_waits() {
        let mut machine = HoldMachine::new(None);
        machine.on_feed(true, None, s(0));
        machine.on_feed(false, None, s(1));
        assert_eq!(machine.decide(s(1_000)), HoldDecision::Feed);
        machine.set_after(Some(s(5)));
        assert_eq!(machine.decide(s(6)), HoldDecision::Slate);
    }
}
