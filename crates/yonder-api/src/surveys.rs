//! Surveys: measurements of a feed.

use crate::enums::{AdviceSubject, MediaTransport};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::facts::{CauseFacts, DialStep};
use crate::feeds::Transport;
use crate::secret::Secret;
use yonder_core::{AudioInfo, VideoInfo};

/// Text message of a preview.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum PreviewEvent {
    /// Media type of the following segments; the first one is an initialization segment.
    Type {
        /// Media type with codecs (RFC 6381).
        mime: String,
    },
    /// End of the preview.
    Ended {
        /// Cause; null at the maximum duration.
        cause: Option<Box<CauseFacts>>,
    },
}

/// Survey to be started, of a feed or of an address.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSurvey {
    /// Name of a feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub feed: Option<String>,
    /// RTSP address of a main stream, without a feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<Secret>,
    /// RTSP address of a sub stream.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sub_url: Option<Secret>,
    /// Transport.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transport: Option<Transport>,
    /// User name, unless the address contains one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password, unless the address contains one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// SHA-256 fingerprint of the only trusted certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Duration of the measurement in seconds: 2 to 300; 10 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u32>,
}

/// Survey, running or done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Survey {
    /// ID.
    pub id: String,
    /// Name of the feed, if it is one.
    pub feed: Option<String>,
    /// The survey is complete.
    pub done: bool,
    /// Main stream.
    pub main: SurveyStream,
    /// Sub stream, if there is one.
    pub sub: Option<SurveyStream>,
    /// Advice, once the survey is done.
    pub advice: Vec<SurveyAdvice>,
}

/// Stream of a survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyStream {
    /// Address, without user name and password.
    pub address: String,
    /// Cause of a failed or incomplete measurement.
    pub cause: Option<CauseFacts>,
    /// Steps of the dial.
    pub steps: Vec<DialStep>,
    /// The pull of a running feed was used, without another session.
    pub shared: bool,
    /// `tcp` or `udp`.
    #[schema(value_type = Option<MediaTransport>)]
    pub transport: Option<String>,
    /// Video.
    pub video: Option<VideoInfo>,
    /// Audio.
    pub audio: Option<AudioInfo>,
    /// Media that the camera offers at this address.
    pub offered: Vec<OfferedTrack>,
    /// Measurements.
    pub measured: Option<MeasuredFacts>,
    /// Milliseconds from the dial to the first frame.
    pub first_picture_ms: Option<u64>,
    /// A still picture is available at `/api/v1/surveys/{id}/{main
    /// sub}.jpg`.
    pub has_still: bool,
    /// Reason for the missing still picture.
    pub no_still: Option<String>,
}

/// Media that a camera offers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OfferedTrack {
    /// `video`, `audio`, `application` …
    pub kind: String,
    /// Encoding.
    pub encoding: String,
    /// It is relayed.
    pub carried: bool,
}

/// Measurements of a stream.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MeasuredFacts {
    /// Duration of the measurement in seconds.
    pub span_s: f64,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Declared frame rate.
    pub declared_fps: Option<f64>,
    /// Video bit rate, in kilobits per second.
    pub video_kbps: u64,
    /// Audio bit rate, in kilobits per second.
    pub audio_kbps: u64,
    /// Maximum bit rate of both over one second.
    pub peak_kbps: u64,
    /// Shortest keyframe interval, in seconds.
    pub keyframe_min_s: Option<f64>,
    /// Median keyframe interval, in seconds.
    pub keyframe_median_s: Option<f64>,
    /// Longest keyframe interval, in seconds.
    pub keyframe_max_s: Option<f64>,
    /// Frames are sent in another order than they are shown in.
    pub b_frames: bool,
    /// Packets received.
    pub packets: u64,
    /// Packets lost.
    pub packets_lost: u64,
    /// Packets that arrived after a later one.
    pub packets_reordered: u64,
    /// Access units dropped because of packet loss.
    pub units_dropped: u64,
    /// Parts of packets that were dropped, by reason.
    #[serde(default)]
    pub drops: Vec<DropFacts>,
    /// Interarrival jitter of the video (RFC 3550), in milliseconds.
    pub jitter_ms: f64,
    /// Clock drift of the camera in parts per million; positive for a fast clock.
    pub drift_ppm: Option<f64>,
    /// Standard error of the drift.
    pub drift_error_ppm: Option<f64>,
}

/// Dropped parts of packets, by reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DropFacts {
    /// Reason, as in the metrics: `reserved-type`, `cut-short`, `interleaved-mode`, `headless-fragment`,
    /// `unterminated-fragment`, `too-large`, `other-payload-type`, `no-audio-configuration`.
    pub reason: String,
    /// Number of payloads, fragments or packets.
    pub count: u64,
}

/// Advice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SurveyAdvice {
    /// Stable code.
    pub code: String,
    /// `main`, `sub` or `both`.
    #[schema(value_type = AdviceSubject)]
    pub about: String,
    /// Message, in one or two sentences.
    pub message: String,
    /// A change of the camera's encoder settings may solve it: `POST /feeds/{name}/tuning`.
    #[serde(default)]
    pub tune: bool,
}
