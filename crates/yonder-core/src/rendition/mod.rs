//! Choice of renditions: which version of a feed a destination needs, at the least cost.
//!
//! A rendition is a second version of a feed for platforms that do not accept it as it is. Audio and video are chosen
//! separately; what is accepted is not touched. Equal renditions are made once for all destinations.

mod audio;
mod browser;
mod checks;
mod cost;
mod limit;
mod rate;
mod selection;
mod video;

use std::fmt;

use serde::{Deserialize, Serialize};
use yonder_address::Protocol;

use crate::platform::RuleSheet;
use crate::preflight::FeedFacts;

pub use audio::{AudioRendition, AudioSource};
pub use browser::{browser_requirements, browser_rules};
pub use checks::{Machine, adaptation_for, check_adapted_push};
pub use cost::{CodecSpeed, estimate_cores};
pub use limit::{Limit, LimitError};
pub use rate::{PathSample, RateController};
pub use selection::Selection;
pub use video::VideoRendition;

/// Permission of a relay to adapt its feed for destinations.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Adapt {
    /// Nothing: the feed is sent as it is.
    None,
    /// Audio.
    #[default]
    Audio,
    /// Audio and video.
    All,
}

impl Adapt {
    /// All values.
    pub const ALL: [Self; 3] = [Self::None, Self::Audio, Self::All];

    /// Returns the name used in the API and the records.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Audio => "audio",
            Self::All => "all",
        }
    }

    /// Returns the value with this name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|adapt| adapt.as_str() == name)
    }
}

/// Version of a feed; `None` for a track that is sent as it is.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Rendition {
    /// Video.
    pub video: Option<VideoRendition>,
    /// Audio.
    pub audio: Option<AudioRendition>,
}

impl Rendition {
    /// Returns true if the feed is sent as it is.
    #[must_use]
    pub fn is_original(&self) -> bool {
        *self == Self::default()
    }
}

impl fmt::Display for Rendition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let video = self.video.map(|video| video.to_string());
        let audio = self.audio.map(|audio| audio.to_string());
        let parts: Vec<String> = video.into_iter().chain(audio).collect();
        f.write_str(if parts.is_empty() { "as received" } else { "" })?;
        f.write_str(&parts.join("; "))
    }
}

/// Property of a feed that a destination does not accept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// Stable name, equal to that of the preflight check.
    pub check: &'static str,
    /// Reason, in one sentence without its stop.
    pub reason: String,
}

/// Rendition for one destination, with the reasons for it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Choice {
    /// The rendition to be used.
    pub rendition: Rendition,
    /// Reasons for its audio and video.
    pub solved: Vec<Need>,
    /// Needs that [`Adapt`] does not allow to solve, or that no rendition solves.
    pub unsolved: Vec<Need>,
}

/// Requirements of one destination.
#[derive(Debug, Clone, Copy)]
pub struct Requirements<'a> {
    /// Protocol of the push.
    pub protocol: Protocol,
    /// Rules of its platform, if they are known.
    pub rules: Option<&'a RuleSheet>,
    /// Limits set by a person.
    pub limit: Limit,
    /// Video bit rate that the uplink has left for this push, in kilobits per second.
    pub available_kbps: Option<u32>,
}

/// Chooses the rendition of a feed for a destination. A feed whose video was not measured is sent as it is.
#[must_use]
pub fn choose(feed: &FeedFacts, requirements: Requirements<'_>, adapt: Adapt) -> Choice {
    let mut choice = Choice::default();
    let Some(video) = &feed.video else { return choice };
    let (audio, audio_needs) = audio::choose(feed.audio.as_ref(), requirements);
    let (scaled, video_needs) = video::choose(video, requirements);
    choice.rendition.audio = audio.filter(|_| adapt != Adapt::None);
    choice.rendition.video = scaled.filter(|_| adapt == Adapt::All);
    let Rendition { video, audio } = choice.rendition;
    for (needs, is_solved) in [(audio_needs, audio.is_some()), (video_needs, video.is_some())] {
        if is_solved { choice.solved.extend(needs) } else { choice.unsolved.extend(needs) }
    }
    choice
}

/// Groups destinations by their rendition: each is made once. The number is the index in `choices`.
#[must_use]
pub fn share(choices: &[Rendition]) -> Vec<(Rendition, Vec<usize>)> {
    let mut groups: Vec<(Rendition, Vec<usize>)> = Vec::new();
    for (number, rendition) in choices.iter().enumerate() {
        match groups.iter_mut().find(|(known, _)| known == rendition) {
            Some((_, numbers)) => numbers.push(number),
            None => groups.push((*rendition, vec![number])),
        }
    }
    groups
}

#[cfg(test)]
mod tests;
