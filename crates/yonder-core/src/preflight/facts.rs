//! Input and results of the checks.

use serde::{Deserialize, Serialize};
use yonder_address::Protocol;

/// Result of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = CheckLevel))]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// It is as it must be.
    Pass,
    /// It will probably work, but is not as it should be; or it could not be checked.
    Warn,
    /// It will not work.
    Fail,
}

impl Level {
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

/// One check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Check {
    /// Name of the feed, destination or uplink.
    pub subject: String,
    /// Stable word for the check.
    pub check: &'static str,
    /// How it came out.
    pub level: Level,
    /// Why, in one sentence.
    pub reason: String,
    /// Next step, unless the check passed.
    pub next_step: Option<String>,
}

/// Why something does not work, and what to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    /// One sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
}

/// The measured picture.
#[derive(Debug, Clone, PartialEq)]
pub struct VideoFacts {
    /// Codec's name.
    pub codec: String,
    /// Samples.
    pub width: u32,
    /// Lines.
    pub height: u32,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Kilobits per second.
    pub kbps: Option<u64>,
    /// Seconds between keyframes, the longest seen.
    pub keyframe_s: Option<f64>,
    /// Pictures come in another order than they are shown in; `None` when not looked at.
    pub b_frames: Option<bool>,
    /// Keyframes are recovery points of an open GOP, without IDR pictures.
    pub open_gop: bool,
}

/// The measured sound.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AudioFacts {
    /// Codec's name.
    pub codec: String,
    /// Hertz.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u32,
    /// Kilobits per second, where measured.
    pub kbps: Option<u64>,
}

/// A feed, as far as it could be measured.
#[derive(Debug, Clone, PartialEq)]
pub struct FeedFacts {
    /// Name.
    pub name: String,
    /// Why nothing could be measured.
    pub cause: Option<Trouble>,
    /// Picture.
    pub video: Option<VideoFacts>,
    /// Sound; `None` when there is none.
    pub audio: Option<AudioFacts>,
}

/// Facts about a stream key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyFacts {
    /// There is one.
    pub present: bool,
    /// The key or the passphrase cannot be opened.
    pub lost: bool,
    /// Seconds until it expires; negative once it has.
    pub expires_in_s: Option<i64>,
    /// It is for one broadcast, and was used.
    pub spent: bool,
    /// Another destination with the same key at the same server.
    pub same_as: Option<String>,
    /// Another running relay that pushes to this destination.
    pub used_by: Option<String>,
}

/// Whether a destination's server was reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reach {
    /// It was not tried.
    NotTried,
    /// Every step up to the key was done, in words.
    Reached(String),
    /// It was not, for this cause.
    Failed(Trouble),
}

/// A push that is to be started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushFacts {
    /// Name of the destination.
    pub destination: String,
    /// Protocol.
    pub protocol: Protocol,
    /// The media is encrypted.
    pub encrypted: bool,
    /// Its key.
    pub key: KeyFacts,
    /// Its server.
    pub main: Reach,
    /// Its backup server, where there is one.
    pub backup: Option<Reach>,
}
