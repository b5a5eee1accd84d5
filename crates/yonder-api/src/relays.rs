//! Relays: settings and state.

use std::collections::BTreeMap;

use crate::enums::{MediaTransport, RateRange};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use yonder_core::rendition::{Adapt, AudioSource};
use yonder_core::{Action, ConditionLevel, DesiredState, FaultDomain, FeedPhase, PushPhase, ServerRole};

use crate::facts::{CauseFacts, DialStep, LinkFacts};
use crate::feeds::PublisherFacts;
use crate::record::Outage;
use yonder_core::{AudioInfo, VideoInfo};

/// Relay to be added.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRelay {
    /// Name, unique among relays.
    pub name: String,
    /// Name of the feed.
    pub feed: String,
    /// Names of the destinations, in order.
    pub to: Vec<String>,
    /// Absence of the feed, in seconds, after which the holding picture is sent; 0 disables it. 3 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hold_after_s: Option<u32>,
    /// On-air windows, such as `mon-fri 08:00-18:00`; empty for always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_air: Option<Vec<String>>,
    /// Time zone of these times, by its name in the time zone database; by default that of the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Minute of the day with few viewers, such as `04:00`, for rollovers of broadcasts that approach their platform's
    /// limit. Empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quiet_minute: Option<String>,
    /// Permission to adapt the feed for destinations that do not accept it as it is: nothing, audio (default) or all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adapt: Option<Adapt>,
    /// Limits of the video by destination, such as `720p,25fps,2500kbit/s`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limits: Option<BTreeMap<String, String>>,
}

/// Change of a relay; omitted fields are kept.
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
    /// Absence of the feed, in seconds, after which the holding picture is sent; 0 disables it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hold_after_s: Option<u32>,
    /// On-air windows, such as `mon-fri 08:00-18:00`; empty for always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_air: Option<Vec<String>>,
    /// Time zone of these times, by its name in the time zone database; by default that of the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Minute of the day with few viewers, such as `04:00`, for rollovers of broadcasts that approach their platform's
    /// limit. Empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quiet_minute: Option<String>,
    /// Permission to adapt the feed for destinations that do not accept it as it is. Pushes whose stream changes reconnect.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adapt: Option<Adapt>,
    /// New limits of the video by destination, such as `720p,25fps,2500kbit/s`; they replace all former ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limits: Option<BTreeMap<String, String>>,
    /// New holding picture: a PNG or JPEG of at most 8 MiB, in Base64 (RFC 4648). Empty restores the default card with
    /// the relay's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(content_encoding = "base64")]
    pub holding_picture: Option<String>,
}

/// State of a feed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FeedState {
    /// Name.
    pub name: String,
    /// State.
    pub state: FeedPhase,
    /// When the state began; null while off.
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// When it went down, over all attempts; null while video arrives.
    #[serde(default)]
    #[schema(format = DateTime)]
    pub down_since: Option<String>,
    /// Connection attempts since it went down.
    #[serde(default)]
    pub attempts: u32,
    /// Age of this state in seconds: 0 up to three seconds; more means that the service does not process the feed.
    #[serde(default)]
    pub age_s: u64,
    /// Cause while it does not flow.
    pub cause: Option<CauseFacts>,
    /// Seconds until the next attempt, while waiting or blocked.
    pub retry_in_s: Option<f64>,
    /// `tcp` or `udp`, while connected.
    #[schema(value_type = Option<MediaTransport>)]
    pub transport: Option<String>,
    /// Video, once known.
    pub video: Option<VideoInfo>,
    /// Audio, if there is any.
    pub audio: Option<AudioInfo>,
    /// Bytes received since it was enabled.
    #[serde(default)]
    pub bytes: u64,
    /// Packets lost since it was enabled.
    pub packets_lost: u64,
    /// Access units dropped because of packet loss, or because they depend on a dropped one.
    #[serde(default)]
    pub units_dropped: u64,
    /// Number of reconnections.
    pub reconnects: u64,
    /// Steps of the last dial.
    #[serde(default)]
    pub steps: Vec<DialStep>,
    /// Encoder that publishes the feed now.
    #[serde(default)]
    pub publisher: Option<PublisherFacts>,
}

/// State of a push.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PushState {
    /// Name of the destination.
    pub destination: String,
    /// State.
    pub state: PushPhase,
    /// When the state began; null while off.
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// When it went down, over all attempts; null while it sends.
    #[serde(default)]
    #[schema(format = DateTime)]
    pub down_since: Option<String>,
    /// Connection attempts since it went down.
    #[serde(default)]
    pub attempts: u32,
    /// Cause while it is not live.
    pub cause: Option<CauseFacts>,
    /// Seconds until the next attempt, while waiting for it or blocked.
    pub retry_in_s: Option<f64>,
    /// Output bit rate, in kilobits per second.
    pub kbps: u64,
    /// Bytes sent since it was enabled.
    pub bytes: u64,
    /// Video frames sent.
    pub frames_sent: u64,
    /// Video frames skipped because the network was too slow.
    pub frames_dropped: u64,
    /// Number of reconnections.
    pub reconnects: u64,
    /// Backlog behind the feed, in milliseconds.
    pub backlog_ms: u64,
    /// Steps of the last dial.
    pub steps: Vec<DialStep>,
    /// Server in use, or to be dialed next.
    #[serde(default)]
    pub server: ServerRole,
    /// Uplink that it is bound to, if any.
    #[serde(default)]
    pub uplink: Option<String>,
    /// SRT statistics.
    #[serde(default)]
    pub link: Option<LinkFacts>,
    /// Warning about a running push, as a sentence.
    #[serde(default)]
    pub warning: Option<String>,
    /// Version of the feed that it sends; null for the feed as it is.
    #[serde(default)]
    pub rendition: Option<PushRendition>,
}

/// Version of a feed, made for one or more pushes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PushRendition {
    /// Encoded video; null for that of the feed.
    pub video: Option<RenditionVideo>,
    /// Encoded audio; null for that of the feed.
    pub audio: Option<RenditionAudio>,
    /// Number of pushes that use it.
    pub shared_by: u32,
    /// Processor cores that it occupies, averaged over the last seconds.
    pub cpu_cores: f64,
    /// Video frames received from the feed.
    #[serde(default)]
    pub frames_in: u64,
    /// Video frames made.
    #[serde(default)]
    pub frames_out: u64,
    /// Video frames of the feed that were skipped because the machine was too slow.
    #[serde(default)]
    pub frames_skipped: u64,
    /// Number of restarts after failures.
    #[serde(default)]
    pub restarts: u64,
}

/// Encoded video of a rendition.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RenditionVideo {
    /// Codec name.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub height: u32,
    /// Frames per second.
    pub fps: f64,
    /// Bit rate in kilobits per second. It is lower than planned while the network path of its only push is too slow.
    pub kbps: u32,
    /// Keyframe interval in seconds.
    pub keyframe_interval_s: f64,
}

/// Encoded audio of a rendition.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RenditionAudio {
    /// Codec name.
    pub codec: String,
    /// Sampling rate in hertz.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u32,
    /// Bit rate in kilobits per second.
    pub kbps: u32,
    /// Source: the audio of the feed, or silence while it has none.
    pub source: AudioSource,
}

/// Parameters of bit rates over time.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RatesRequest {
    /// `hour` (per second), `day` (per ten seconds) or `month` (per minute); the hour by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<RateRange>, inline)]
    pub range: Option<String>,
}

/// Bit rates over time. All rows have the same begin and length.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rates {
    /// Begin of the first step.
    #[schema(format = DateTime)]
    pub from: String,
    /// Length of a step, in seconds.
    pub step_s: u32,
    /// Input bit rate of each step, in kilobits per second; null where no measurements.
    pub feed: Vec<Option<u32>>,
    /// Output bit rates.
    pub pushes: Vec<PushRates>,
    /// Outages of the feed and the pushes within that time, the oldest first.
    #[serde(default)]
    pub outages: Vec<Outage>,
}

/// Output bit rates of one destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushRates {
    /// Name of the destination.
    pub destination: String,
    /// Kilobits per second of each step; null where no measurements.
    pub kbps: Vec<Option<u32>>,
}

/// On-air windows of a relay.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OnAir {
    /// Windows, as text.
    pub windows: Vec<String>,
    /// Time zone.
    pub zone: String,
    /// The relay should run now.
    pub now: bool,
    /// Time of the next change; null if there is none.
    #[schema(format = DateTime)]
    pub changes_at: Option<String>,
}

/// Condition of a relay, determined by its worst part.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Condition {
    /// Level.
    pub level: ConditionLevel,
    /// When it began; null while off.
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// Connection attempts since the relay went down.
    pub attempts: u32,
    /// Fault domain, if the state is not the desired one.
    pub side: Option<FaultDomain>,
    /// Cause.
    pub cause: Option<CauseFacts>,
    /// Names of the affected feed and destinations.
    pub about: Vec<String>,
    /// Recommended actions, the likeliest first.
    pub actions: Vec<Action>,
}

/// Relay with its state.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Relay {
    /// Name.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Desired state.
    pub wanted: DesiredState,
    /// `wanted` could not be written to the disk yet: a restart of the service would restore the previous state.
    #[serde(default)]
    pub wanted_unsaved: bool,
    /// Condition.
    #[serde(default)]
    #[schema(required)]
    pub condition: Condition,
    /// Site of its feed.
    #[serde(default)]
    pub site: Option<String>,
    /// Absence of the feed, in seconds, after which the holding picture is sent; 0 disables it.
    #[serde(default)]
    pub hold_after_s: u32,
    /// It has a holding picture of its own.
    #[serde(default)]
    pub holding_picture: bool,
    /// On-air windows; null if it should always run.
    #[serde(default)]
    pub on_air: Option<OnAir>,
    /// Minute of the day for rollovers.
    #[serde(default)]
    pub quiet_minute: Option<String>,
    /// Permission to adapt the feed for destinations that do not accept it as it is.
    #[serde(default)]
    pub adapt: Adapt,
    /// Limits of the video by destination.
    #[serde(default)]
    pub limits: BTreeMap<String, String>,
    /// Feed.
    pub feed: FeedState,
    /// Pushes, in order.
    pub pushes: Vec<PushState>,
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
    fn missing_cause_is_null() {
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
            publisher: None,
            reconnects: 0,
        };
        let json = serde_json::to_value(&feed).unwrap();
        assert!(json["cause"].is_null() && json["video"].is_null() && json["since"].is_null());
    }
}
