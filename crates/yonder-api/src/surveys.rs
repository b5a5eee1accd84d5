//! Surveys: the measured facts of a feed.

use crate::enums::{AdviceSubject, MediaTransport};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::feeds::Transport;
use crate::relays::{AudioFacts, CauseFacts, DialStep, VideoFacts};
use crate::secret::Secret;

/// Message of a preview between its segments.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum PreviewEvent {
    /// The segments that follow are of this type; the first of them is an initialisation segment.
    Type {
        /// Media type with codecs (RFC 6381).
        mime: String,
    },
    /// It is over.
    Ended {
        /// Why; null when it was open for the longest time.
        cause: Option<Box<CauseFacts>>,
    },
}

/// A survey to be begun: of a feed by its name, or of an address that is not kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSurvey {
    /// Name of a feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub feed: Option<String>,
    /// RTSP address of a main stream, where no feed is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<Secret>,
    /// RTSP address of a lighter stream.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sub_url: Option<Secret>,
    /// Transport.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transport: Option<Transport>,
    /// User name, where the address holds none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password, where the address holds none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// SHA-256 fingerprint of the one certificate that is trusted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Seconds to measure for, once pictures come: 2 to 300; 10 where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u32>,
}

/// A survey, under way or done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Survey {
    /// Its number.
    pub id: String,
    /// Name of the feed, where it is one.
    pub feed: Option<String>,
    /// It is done.
    pub done: bool,
    /// The main stream.
    pub main: SurveyStream,
    /// The lighter one, where there is one.
    pub sub: Option<SurveyStream>,
    /// Advice, once the survey is done.
    pub advice: Vec<SurveyAdvice>,
}

/// One stream of a survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyStream {
    /// Its address, without user name and password.
    pub address: String,
    /// Why it could not be measured, or not to the end.
    pub cause: Option<CauseFacts>,
    /// Steps of the dial.
    pub steps: Vec<DialStep>,
    /// It was watched where it runs already, so that no further viewer was needed.
    pub shared: bool,
    /// `tcp` or `udp`.
    #[schema(value_type = Option<MediaTransport>)]
    pub transport: Option<String>,
    /// Picture.
    pub video: Option<VideoFacts>,
    /// Sound.
    pub audio: Option<AudioFacts>,
    /// Everything that the camera offers at this address.
    pub offered: Vec<OfferedTrack>,
    /// Measurements.
    pub measured: Option<MeasuredFacts>,
    /// Milliseconds from the dial to the first picture.
    pub first_picture_ms: Option<u64>,
    /// A still picture can be had at `/api/v1/surveys/{id}/{main|sub}.jpg`.
    pub has_still: bool,
    /// Why there is no still picture.
    pub no_still: Option<String>,
}

/// A track that a camera offers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OfferedTrack {
    /// `video`, `audio`, `application` …
    pub kind: String,
    /// Encoding.
    pub encoding: String,
    /// It is pulled.
    pub carried: bool,
}

/// Measurements of a stream.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MeasuredFacts {
    /// Seconds that the pictures span.
    pub span_s: f64,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Frames per second that the stream or its description declares.
    pub declared_fps: Option<f64>,
    /// Bit rate of the picture.
    pub video_kbps: u64,
    /// Bit rate of the sound.
    pub audio_kbps: u64,
    /// Bit rate of both in the fullest second.
    pub peak_kbps: u64,
    /// Shortest time between keyframes, in seconds.
    pub keyframe_min_s: Option<f64>,
    /// Middle one.
    pub keyframe_median_s: Option<f64>,
    /// Longest one.
    pub keyframe_max_s: Option<f64>,
    /// Pictures are sent in another order than they are shown in.
    pub b_frames: bool,
    /// Packets received, picture and sound.
    pub packets: u64,
    /// Packets that never came.
    pub packets_lost: u64,
    /// Packets that came after a later one.
    pub packets_reordered: u64,
    /// Pictures and frames of sound dropped because of loss.
    pub units_dropped: u64,
    /// Parts of packets that were not used, by reason.
    #[serde(default)]
    pub drops: Vec<DropFacts>,
    /// Interarrival jitter of the picture (RFC 3550), in milliseconds.
    pub jitter_ms: f64,
    /// The camera's clock against ours, in parts per million; positive when the camera's is fast.
    pub drift_ppm: Option<f64>,
    /// Standard error of that.
    pub drift_error_ppm: Option<f64>,
}

/// Parts of packets that were not used for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DropFacts {
    /// Reason, as in the metrics: `reserved-type`, `cut-short`, `interleaved-mode`, `headless-fragment`, `unterminated-fragment`,
    /// `too-large`, `other-payload-type`, `no-audio-configuration`.
    pub reason: String,
    /// Number of payloads, fragments or packets.
    pub count: u64,
}

/// One piece of advice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SurveyAdvice {
    /// Stable code.
    pub code: String,
    /// `main`, `sub` or `both`.
    #[schema(value_type = AdviceSubject)]
    pub about: String,
    /// One or two sentences.
    pub message: String,
}
