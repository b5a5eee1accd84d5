//! Decision between feed and holding picture as the source of a relay's output.

use std::time::Duration;

/// Source of a relay's output.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HoldDecision {
    /// The feed.
    Feed,
    /// The feed; the slate if the feed is still away at this time.
    FeedUntil(Duration),
    /// The slate.
    Slate,
}

/// Decides when the holding picture is sent.
///
/// A relay whose feed has never flowed cannot hold: the frame size is not known and no broadcast runs.
#[derive(Debug, Clone)]
pub struct HoldMachine {
    after: Option<Duration>,
    wanted: bool,
    has_flowed: bool,
    away_since: Option<Duration>,
}

impl HoldMachine {
    /// Creates a machine that sends the holding picture once its feed has been away for `after`; never by itself for `None`.
    #[must_use]
    pub fn new(after: Option<Duration>) -> Self {
        Self { after, wanted: false, has_flowed: false, away_since: None }
    }

    /// Sets the delay before the holding picture.
    pub fn set_after(&mut self, after: Option<Duration>) {
        self.after = after;
    }

    /// Handles a request of an operator to hold or to resume.
    pub fn request_hold(&mut self, wanted: bool) {
        self.wanted = wanted;
    }

    /// Returns true while an operator requests the holding picture.
    #[must_use]
    pub fn is_wanted(&self) -> bool {
        self.wanted
    }

    /// Handles a slate that was stored before a restart: an absence is held even before the feed has flowed.
    pub fn on_slate_known(&mut self) {
        self.has_flowed = true;
    }

    /// Handles the state of the feed; `last_picture` is the time of the last frame.
    pub fn on_feed(&mut self, flows: bool, last_picture: Option<Duration>, now: Duration) {
        if flows {
            self.has_flowed = true;
            self.away_since = None;
        } else if self.has_flowed {
            self.away_since.get_or_insert_with(|| last_picture.unwrap_or(now).min(now));
        }
    }

    /// Returns the source at `now`.
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
    fn absence_is_held_after_the_delay_until_the_feed_returns() {
        let mut machine = HoldMachine::new(Some(s(3)));
        machine.on_feed(true, None, s(0));
        assert_eq!(machine.decide(s(5)), HoldDecision::Feed);
        // A stall is detected late: the time of the last frame counts.
        machine.on_feed(false, Some(s(10)), s(12));
        assert_eq!(machine.decide(s(12)), HoldDecision::FeedUntil(s(13)));
        machine.on_feed(false, Some(s(12)), s(12));
        assert_eq!(machine.decide(s(13)), HoldDecision::Slate);
        machine.on_feed(true, None, s(60));
        assert_eq!(machine.decide(s(60)), HoldDecision::Feed);
    }

    #[test]
    fn relay_without_video_does_not_hold() {
        let mut machine = HoldMachine::new(Some(s(3)));
        machine.request_hold(true);
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
    fn operator_holds_and_resumes_a_flowing_feed() {
        let mut machine = HoldMachine::new(None);
        machine.on_feed(true, None, s(0));
        machine.request_hold(true);
        assert_eq!(machine.decide(s(1)), HoldDecision::Slate);
        machine.request_hold(false);
        assert_eq!(machine.decide(s(2)), HoldDecision::Feed);
    }

    #[test]
    fn relay_without_hold_delay_waits() {
        let mut machine = HoldMachine::new(None);
        machine.on_feed(true, None, s(0));
        machine.on_feed(false, None, s(1));
        assert_eq!(machine.decide(s(1_000)), HoldDecision::Feed);
        machine.set_after(Some(s(5)));
        assert_eq!(machine.decide(s(6)), HoldDecision::Slate);
    }
}
