//! Input and results of the preflight.

use serde::{Deserialize, Serialize};
use yonder_address::Protocol;

use crate::stream_info::{MeasuredAudio, MeasuredVideo};
use crate::survey::SourceKind;

/// Result of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum CheckStatus {
    /// As required.
    Pass,
    /// It will probably work but is not as it should be, or could not be checked.
    Warn,
    /// It will not work.
    Fail,
}

impl CheckStatus {
    /// Returns the name of the result.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Warn => "warn",
            Self::Fail => "fail",
        }
    }
}

/// Check of one subject.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Check {
    /// Name of the feed, destination or uplink.
    pub subject: String,
    /// Stable name of the check.
    pub check: &'static str,
    /// Result.
    pub level: CheckStatus,
    /// Reason, in one sentence.
    pub reason: String,
    /// Next step, unless the check passed.
    pub next_step: Option<String>,
}

/// Problem with its next step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// One sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
}

/// Measured feed. Only its streams are serialized.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FeedFacts {
    /// Name.
    #[serde(skip)]
    pub name: String,
    /// Device that it comes from.
    #[serde(skip)]
    pub source: SourceKind,
    /// Problem that prevented the measurement.
    #[serde(skip)]
    pub cause: Option<Problem>,
    /// Video.
    pub video: Option<MeasuredVideo>,
    /// Audio; `None` if there is none.
    pub audio: Option<MeasuredAudio>,
}

impl FeedFacts {
    /// Returns true if both have streams of the same formats; rates may differ.
    #[must_use]
    pub fn is_same_stream(&self, other: &Self) -> bool {
        let video =
            |facts: &Self| facts.video.as_ref().map(|video| (video.codec.clone(), video.width, video.height));
        let audio = |facts: &Self| {
            facts.audio.as_ref().map(|audio| (audio.codec.clone(), audio.rate_hz, audio.channels))
        };
        video(self) == video(other) && audio(self) == audio(other)
    }
}

/// State of a stream key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyFacts {
    /// A key is stored.
    pub present: bool,
    /// The key or the passphrase cannot be decrypted.
    pub lost: bool,
    /// Seconds until it expires; negative afterwards.
    pub expires_in_s: Option<i64>,
    /// It is valid for one broadcast, and was used.
    pub spent: bool,
    /// Another destination with the same key at the same server.
    pub same_as: Option<String>,
    /// Another running relay that pushes to this destination.
    pub used_by: Option<String>,
}

/// Result of a reachability probe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reachability {
    /// Not probed.
    NotTried,
    /// Every step up to the stream key succeeded: the steps, as text.
    Reached(String),
    /// Failed.
    Failed(Problem),
}

/// Push to be started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushFacts {
    /// Name of the destination.
    pub destination: String,
    /// Protocol.
    pub protocol: Protocol,
    /// The connection is encrypted.
    pub encrypted: bool,
    /// Stream key.
    pub key: KeyFacts,
    /// Main server.
    pub main: Reachability,
    /// Backup server, if there is one.
    pub backup: Option<Reachability>,
}
