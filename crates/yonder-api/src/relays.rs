//! Relays: what they are and how they are.

use crate::enums::{MediaTransport, RateRange};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use yonder_core::DialStep as DialStepName;
use yonder_core::{Action, ConditionLevel, DesiredState, FeedPhase, PushPhase, ServerRole, Side};

use crate::record::{LogEntry, Outage};
use crate::stats::RelayStats;
use crate::surveys::Survey;

/// A relay to be added.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRelay {
    /// Name, unique among relays.
    pub name: String,
    /// Name of the feed.
    pub feed: String,
    /// Names of the destinations, in order.
    pub to: Vec<String>,
    /// Seconds that the feed may be away before the holding picture is shown; 0 waits without one. 3 where nothing is
    /// said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hold_after_s: Option<u32>,
    /// Windows in which it should run, like `mon-fri 08:00-18:00`; none for always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_air: Option<Vec<String>>,
    /// Time zone of these times, by its name in the time zone database; the service's own where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Minute of the day at which few watch, like `04:00`: broadcasts that become too long for their platform are
    /// rolled over then. Empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quiet_minute: Option<String>,
}

/// A change of a relay; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RelayChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub feed: Option<String>,
    /// New destinations, in order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Vec<String>>,
    /// Seconds that the feed may be away before the holding picture is shown; 0 waits without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hold_after_s: Option<u32>,
    /// Windows in which it should run, like `mon-fri 08:00-18:00`; none for always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_air: Option<Vec<String>>,
    /// Time zone of these times, by its name in the time zone database; the service's own where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Minute of the day at which few watch, like `04:00`: broadcasts that become too long for their platform are
    /// rolled over then. Empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quiet_minute: Option<String>,
    /// New holding picture: a PNG or JPEG of at most 8 MiB, in base64 (RFC 4648). Empty goes back to the card with the relay's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(content_encoding = "base64")]
    pub holding_picture: Option<String>,
}

/// Why something is not as wanted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CauseFacts {
    /// Stable code.
    pub code: String,
    /// Fault domain.
    pub side: Side,
    /// One sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
    /// Likely reasons, likeliest first; often none.
    #[serde(default)]
    pub probable_causes: Vec<String>,
}

/// The measured picture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct VideoFacts {
    /// Codec.
    pub codec: String,
    /// Profile.
    pub profile: String,
    /// Tier, where the codec has tiers.
    #[serde(default)]
    pub tier: Option<String>,
    /// Level.
    pub level: f64,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
    /// Frames per second that the stream declares.
    #[serde(default)]
    pub declared_fps: Option<f64>,
    /// Measured frames per second.
    pub fps: Option<f64>,
    /// Measured rate of the feed.
    pub kbps: u64,
    /// Measured seconds between keyframes.
    pub keyframe_interval_s: Option<f64>,
}

/// The sound.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AudioFacts {
    /// Codec.
    pub codec: String,
    /// Sampling rate in hertz.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u8,
}

/// A feed at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FeedState {
    /// Name.
    pub name: String,
    /// State.
    pub state: FeedPhase,
    /// When the state began; null while off.
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// Since when it has been down, over all attempts; null while video arrives.
    #[serde(default)]
    #[schema(format = DateTime)]
    pub down_since: Option<String>,
    /// Connection attempts since then.
    #[serde(default)]
    pub attempts: u32,
    /// Age of all this in seconds. 0 up to three seconds; more means that the service does not process the feed.
    #[serde(default)]
    pub age_s: u64,
    /// Why it does not flow.
    pub cause: Option<CauseFacts>,
    /// Seconds until the next attempt, while waiting or blocked.
    pub retry_in_s: Option<f64>,
    /// `tcp` or `udp`, while connected.
    #[schema(value_type = Option<MediaTransport>)]
    pub transport: Option<String>,
    /// Picture, once known.
    pub video: Option<VideoFacts>,
    /// Sound, where there is any.
    pub audio: Option<AudioFacts>,
    /// Bytes received since it was switched on.
    #[serde(default)]
    pub bytes: u64,
    /// Packets lost since it was switched on.
    pub packets_lost: u64,
    /// Pictures and frames of sound dropped because of that, with all that depended on them.
    #[serde(default)]
    pub units_dropped: u64,
    /// Returns after an absence.
    pub reconnects: u64,
    /// Steps of the last dial.
    #[serde(default)]
    pub steps: Vec<DialStep>,
}

/// A step of a dial, done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DialStep {
    /// Step.
    pub name: DialStepName,
    /// Milliseconds since the dial began.
    pub after_ms: u64,
}

/// A push at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PushState {
    /// Name of the destination.
    pub destination: String,
    /// State.
    pub state: PushPhase,
    /// When the state began; null while off.
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// Since when it has been down, over all attempts; null while it sends.
    #[serde(default)]
    #[schema(format = DateTime)]
    pub down_since: Option<String>,
    /// Connection attempts since then.
    #[serde(default)]
    pub attempts: u32,
    /// Why it is not live.
    pub cause: Option<CauseFacts>,
    /// Seconds until the next attempt, while waiting for it or blocked.
    pub retry_in_s: Option<f64>,
    /// Rate going out.
    pub kbps: u64,
    /// Bytes sent since it was switched on.
    pub bytes: u64,
    /// Pictures sent.
    pub frames_sent: u64,
    /// Pictures skipped because the way was too slow.
    pub frames_dropped: u64,
    /// Returns after an absence.
    pub reconnects: u64,
    /// How far it is behind the feed.
    pub backlog_ms: u64,
    /// Steps of the last dial.
    pub steps: Vec<DialStep>,
    /// Which of the destination's servers is in use, or is connected to next.
    #[serde(default)]
    pub server: ServerRole,
    /// The uplink that it is bound to, where it is.
    #[serde(default)]
    pub uplink: Option<String>,
    /// Statistics of the connection, for SRT.
    #[serde(default)]
    pub link: Option<LinkFacts>,
    /// Warning about a push that runs, as a sentence.
    #[serde(default)]
    pub warning: Option<String>,
}

/// Statistics of an SRT connection.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LinkFacts {
    /// Latency that both sides agreed on.
    pub latency_ms: u64,
    /// Round trip.
    pub rtt_ms: u64,
    /// Packets sent for the first time, in this connection.
    pub sent: u64,
    /// Packets reported lost.
    pub lost: u64,
    /// Packets sent again.
    pub retransmitted: u64,
    /// Packets given up because they were too late.
    pub dropped: u64,
    /// Link capacity estimated by the platform, where it is known.
    pub estimated_bandwidth_kbps: Option<u64>,
    /// The media is encrypted.
    pub encrypted: bool,
}

/// Which span of rates is asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RatesRequest {
    /// `hour` (by the second), `day` (by ten seconds) or `month` (by the minute); the hour unless said otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<RateRange>, inline)]
    pub range: Option<String>,
}

/// Rates over time. All rows begin at the same time and are as long.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rates {
    /// When the first step begins.
    #[schema(format = DateTime)]
    pub from: String,
    /// Seconds of a step.
    pub step_s: u32,
    /// Kilobits per second that came in, in each step; null where nothing was measured.
    pub feed: Vec<Option<u32>>,
    /// Output rates.
    pub pushes: Vec<PushRates>,
    /// Outages of the feed and of the pushes within that time, oldest first.
    #[serde(default)]
    pub outages: Vec<Outage>,
}

/// Output rates of one destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushRates {
    /// Name of the destination.
    pub destination: String,
    /// Kilobits per second in each step; null where nothing was measured.
    pub kbps: Vec<Option<u32>>,
}

/// When a relay should run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OnAir {
    /// Windows as they are written.
    pub windows: Vec<String>,
    /// Time zone.
    pub zone: String,
    /// It should run now.
    pub now: bool,
    /// When that changes; null when it never does.
    #[schema(format = DateTime)]
    pub changes_at: Option<String>,
}

/// Condition of a relay: its worst part decides.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Condition {
    /// How it is.
    pub level: ConditionLevel,
    /// Since when; null while off.
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// Connection attempts since then, where something is down.
    pub attempts: u32,
    /// Fault domain, where the state is not as wanted.
    pub side: Option<Side>,
    /// Why.
    pub cause: Option<CauseFacts>,
    /// Names of the feed and the destinations that are concerned.
    pub about: Vec<String>,
    /// Actions that a person can take, the likeliest first.
    pub actions: Vec<Action>,
}

/// A relay at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Relay {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Desired state.
    pub wanted: DesiredState,
    /// The disk has not taken `wanted` yet: a restart of the service would bring back the state before.
    #[serde(default)]
    pub wanted_unsaved: bool,
    /// How it is as a whole.
    #[serde(default)]
    #[schema(required)]
    pub condition: Condition,
    /// Site of its feed.
    #[serde(default)]
    pub site: Option<String>,
    /// Seconds that the feed may be away before the holding picture is shown; 0 waits without one.
    #[serde(default)]
    pub hold_after_s: u32,
    /// There is a holding picture of its own.
    #[serde(default)]
    pub holding_picture: bool,
    /// Its windows; null where it should always run.
    #[serde(default)]
    pub on_air: Option<OnAir>,
    /// Minute of the day for planned reconnects.
    #[serde(default)]
    pub quiet_minute: Option<String>,
    /// Feed.
    pub feed: FeedState,
    /// Pushes in order.
    pub pushes: Vec<PushState>,
}

/// An event of the stream at `/api/v1/events`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum RelayEvent {
    /// A relay is new, or changed. Figures that change all the time come as `stats`.
    Relay {
        /// As it is now.
        relay: Box<Relay>,
    },
    /// A relay was removed or renamed.
    Removed {
        /// Its name.
        name: String,
    },
    /// Statistics of relays, once a second: only of those that have changed.
    Stats {
        /// As they are now.
        relays: Vec<RelayStats>,
    },
    /// A line of the logbook, as it is written: a state, or what somebody did.
    Log {
        /// The line.
        entry: Box<LogEntry>,
    },
    /// Progress or result of a survey.
    Survey {
        /// As it is now.
        survey: Box<Survey>,
    },
    /// Everything was sent once; what follows are changes.
    Complete,
    /// A heartbeat, every ten seconds: a listener without one for 25 s has lost its connection.
    Alive {
        /// Time of the service.
        now: String,
    },
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unknown_fields_are_refused_by_name() {
        let error = serde_json::from_str::<NewRelay>(r#"{"name":"a","feed":"b","too":[]}"#).unwrap_err();
        assert!(error.to_string().contains("too"), "{error}");
    }

    #[test]
    fn a_cause_that_is_not_there_is_null() {
        let feed = FeedState {
            name: "Summit".into(),
            state: FeedPhase::Off,
            down_since: None,
            attempts: 0,
            age_s: 0,
            since: None,
            cause: None,
            retry_in_s: None,
            transport: None,
            video: None,
            audio: None,
            bytes: 0,
            packets_lost: 0,
            units_dropped: 0,
            steps: Vec::new(),
            reconnects: 0,
        };
        let json = serde_json::to_value(&feed).unwrap();
        assert!(json["cause"].is_null() && json["video"].is_null() && json["since"].is_null());
    }
}
