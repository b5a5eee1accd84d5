//! Statistics of relays, which change from second to second. They are sent separately, so that hundreds of relays can
//! be followed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::facts::LinkFacts;
use crate::relays::Relay;

/// Statistics of a relay.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RelayStats {
    /// Name of the relay.
    pub name: String,
    /// Statistics of its feed.
    pub feed: FeedStats,
    /// Statistics of its pushes, in order.
    pub pushes: Vec<PushStats>,
}

/// Statistics of a feed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FeedStats {
    /// Seconds until the next attempt, while waiting or blocked.
    pub retry_in_s: Option<f64>,
    /// Age of the state in seconds.
    #[serde(default)]
    pub age_s: u64,
    /// Measured bit rate.
    pub kbps: u64,
    /// Measured frame rate.
    pub fps: Option<f64>,
    /// Measured keyframe interval in seconds.
    pub keyframe_interval_s: Option<f64>,
    /// Bytes received.
    pub bytes: u64,
    /// Packets lost.
    pub packets_lost: u64,
    /// Access units dropped because of packet loss.
    pub units_dropped: u64,
}

/// Statistics of a push.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PushStats {
    /// Seconds until the next attempt, while waiting for it or blocked.
    pub retry_in_s: Option<f64>,
    /// Output bit rate, in kilobits per second.
    pub kbps: u64,
    /// Bytes sent.
    pub bytes: u64,
    /// Video frames sent.
    pub frames_sent: u64,
    /// Video frames skipped because the network was too slow.
    pub frames_dropped: u64,
    /// Backlog behind the feed, in milliseconds.
    pub backlog_ms: u64,
    /// SRT statistics.
    pub link: Option<LinkFacts>,
}

impl RelayStats {
    /// Returns the statistics of a relay.
    #[must_use]
    pub fn of(relay: &Relay) -> Self {
        let (feed, video) = (&relay.feed, relay.feed.video.as_ref());
        let pushes = relay.pushes.iter().map(|push| PushStats {
            retry_in_s: push.retry_in_s,
            kbps: push.kbps,
            bytes: push.bytes,
            frames_sent: push.frames_sent,
            frames_dropped: push.frames_dropped,
            backlog_ms: push.backlog_ms,
            link: push.link.clone(),
        });
        Self {
            name: relay.name.clone(),
            feed: FeedStats {
                retry_in_s: feed.retry_in_s,
                age_s: feed.age_s,
                kbps: video.map_or(0, |video| video.kbps),
                fps: video.and_then(|video| video.fps),
                keyframe_interval_s: video.and_then(|video| video.keyframe_interval_s),
                bytes: feed.bytes,
                packets_lost: feed.packets_lost,
                units_dropped: feed.units_dropped,
            },
            pushes: pushes.collect(),
        }
    }

    /// Updates a relay. Its pushes must be the same as those of the statistics.
    pub fn apply(self, relay: &mut Relay) {
        let (feed, now) = (&mut relay.feed, self.feed);
        feed.retry_in_s = now.retry_in_s;
        feed.age_s = now.age_s;
        feed.bytes = now.bytes;
        feed.packets_lost = now.packets_lost;
        feed.units_dropped = now.units_dropped;
        if let Some(video) = &mut feed.video {
            video.kbps = now.kbps;
            video.fps = now.fps;
            video.keyframe_interval_s = now.keyframe_interval_s;
        }
        for (push, now) in relay.pushes.iter_mut().zip(self.pushes) {
            push.retry_in_s = now.retry_in_s;
            push.kbps = now.kbps;
            push.bytes = now.bytes;
            push.frames_sent = now.frames_sent;
            push.frames_dropped = now.frames_dropped;
            push.backlog_ms = now.backlog_ms;
            push.link = now.link;
        }
    }

    /// Returns a relay without statistics, so that it only differs after a change of its state.
    #[must_use]
    pub fn still(relay: &Relay) -> Relay {
        let nothing = Self {
            name: relay.name.clone(),
            feed: FeedStats::default(),
            pushes: vec![PushStats::default(); relay.pushes.len()],
        };
        let mut still = relay.clone();
        nothing.apply(&mut still);
        still
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn relay(kbps: u64, state: &str) -> Relay {
        let push = serde_json::json!({
            "destination": "One", "state": state, "since": null, "cause": null, "retry_in_s": 0.5, "kbps": kbps,
            "bytes": kbps * 2, "frames_sent": 3, "frames_dropped": 1, "reconnects": 0, "backlog_ms": 40, "steps": []
        });
        let video = serde_json::json!({
            "codec": "H.264", "profile": "High", "level": 4.0, "width": 1280, "height": 720, "fps": 25.0,
            "kbps": kbps, "keyframe_interval_s": 2.0
        });
        let feed = serde_json::json!({
            "name": "Summit", "state": "flowing", "since": null, "cause": null, "retry_in_s": null,
            "transport": "tcp", "video": video, "audio": null, "bytes": kbps, "packets_lost": 2, "reconnects": 0
        });
        serde_json::from_value(
            serde_json::json!({"name": "Line", "wanted": "on", "feed": feed, "pushes": [push]}),
        )
        .unwrap()
    }

    #[test]
    fn stats_update_an_older_relay_to_the_newer_one() {
        let (mut old, new) = (relay(100, "live"), relay(2_000, "live"));
        RelayStats::of(&new).apply(&mut old);
        assert_eq!(old, new);
    }

    #[test]
    fn counter_updates_do_not_count_as_state_changes() {
        assert_eq!(RelayStats::still(&relay(100, "live")), RelayStats::still(&relay(2_000, "live")));
        assert_ne!(RelayStats::still(&relay(100, "live")), RelayStats::still(&relay(100, "lagging")));
    }
}
