//! Rules of one platform.

use serde::{Deserialize, Serialize};

use crate::refusal::RefusalRule;

/// Rule sheet of a platform. An empty list or a missing limit means that there is no such rule.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct RuleSheet {
    /// Description, in one sentence.
    pub note: String,
    /// Protocols: `rtmp`, `rtmps`, `srt`.
    pub protocols: Vec<String>,
    /// Encryption is required: RTMPS, or SRT with a passphrase.
    pub encrypted: bool,
    /// Video.
    pub video: VideoRules,
    /// Audio.
    pub audio: AudioRules,
    /// Broadcast.
    pub broadcast: BroadcastRules,
    /// Meanings of this platform's refusals that differ from the built-in table.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub refusals: Vec<RefusalRule>,
}

/// Rules for video.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct VideoRules {
    /// Codecs by name: `H.264`, `H.265`.
    pub codecs: Vec<String>,
    /// Maximum width in samples.
    pub max_width: Option<u32>,
    /// Maximum height in lines.
    pub max_lines: Option<u32>,
    /// Maximum frame rate.
    pub max_fps: Option<f64>,
    /// Maximum bit rate, in kilobits per second.
    pub ceiling_kbps: Option<u32>,
    /// Minimum keyframe interval, in seconds.
    pub min_keyframe_interval_s: Option<f64>,
    /// Maximum keyframe interval, in seconds.
    pub max_keyframe_interval_s: Option<f64>,
    /// Frames may be sent in another order than they are shown in.
    pub b_frames: Option<bool>,
    /// Recommended bit rates by frame size.
    pub recommended: Vec<RecommendedRate>,
}

/// Recommended bit rate for frames up to a height and a frame rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecommendedRate {
    /// Height in lines.
    pub lines: u32,
    /// Frames per second.
    pub fps: u32,
    /// Minimum in kilobits per second.
    pub from_kbps: u32,
    /// Maximum in kilobits per second.
    pub to_kbps: u32,
}

/// Rules for audio.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AudioRules {
    /// A stream without audio is refused.
    pub needed: bool,
    /// Codecs by name: `AAC`, `G.711`.
    pub codecs: Vec<String>,
    /// Sampling rates in hertz.
    pub rates_hz: Vec<u32>,
    /// Maximum number of channels.
    pub max_channels: Option<u32>,
    /// Maximum bit rate, in kilobits per second.
    pub ceiling_kbps: Option<u32>,
}

/// Rules for a broadcast.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct BroadcastRules {
    /// Hours after which the platform ends a broadcast.
    pub longest_h: Option<f64>,
    /// Seconds without data that a broadcast survives.
    pub survives_silence_s: Option<u32>,
    /// A stream key is valid for one broadcast.
    pub one_broadcast_keys: bool,
}

/// Error for an invalid rule sheet.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SheetError {
    /// Unknown value.
    #[error("{rule}: {word:?} is not known; known are {known}")]
    Word {
        /// Rule.
        rule: &'static str,
        /// The value.
        word: String,
        /// Known values.
        known: String,
    },
    /// Number out of range.
    #[error("{rule}: {value} is not from {least} to {most}")]
    Range {
        /// Rule.
        rule: &'static str,
        /// The value.
        value: String,
        /// Minimum.
        least: String,
        /// Maximum.
        most: String,
    },
    /// Range whose end is before its begin.
    #[error("{0}: the range ends before it begins")]
    Backwards(&'static str),
    /// Too many entries.
    #[error("{0}: there are too many entries")]
    TooMany(&'static str),
}

/// Known protocols.
pub(super) const PROTOCOLS: [&str; 3] = ["rtmp", "rtmps", "srt"];
/// Known video codecs.
pub(super) const VIDEO_CODECS: [&str; 2] = ["H.264", "H.265"];
/// Known audio codecs.
pub(super) const AUDIO_CODECS: [&str; 3] = ["AAC", "G.711", "Opus"];
/// Maximum length of a note, in characters.
const MAX_NOTE: usize = 500;
/// Maximum length of the text of a refusal, in characters.
const MAX_REFUSAL_TEXT: usize = 100;
/// Maximum entries of a list in one sheet.
const MAX_ENTRIES: usize = 32;

impl RuleSheet {
    /// Checks all values.
    ///
    /// # Errors
    /// [`SheetError`] for the first rule that is invalid.
    pub fn check(&self) -> Result<(), SheetError> {
        known("protocols", &self.protocols, &PROTOCOLS)?;
        known("video.codecs", &self.video.codecs, &VIDEO_CODECS)?;
        known("audio.codecs", &self.audio.codecs, &AUDIO_CODECS)?;
        if self.note.chars().count() > MAX_NOTE {
            return Err(SheetError::TooMany("note"));
        }
        let VideoRules { max_width, max_lines, max_fps, ceiling_kbps, .. } = &self.video;
        within("video.max-width", max_width.map(f64::from), 16.0, 16_384.0)?;
        within("video.max-lines", max_lines.map(f64::from), 16.0, 16_384.0)?;
        within("video.max-fps", *max_fps, 1.0, 480.0)?;
        within("video.ceiling", ceiling_kbps.map(f64::from), 16.0, 1_000_000.0)?;
        let (least, most) = (self.video.min_keyframe_interval_s, self.video.max_keyframe_interval_s);
        within("video.min-keyframe-interval", least, 0.0, 600.0)?;
        within("video.max-keyframe-interval", most, 0.1, 600.0)?;
        if least.zip(most).is_some_and(|(least, most)| least > most) {
            return Err(SheetError::Backwards("video.min-keyframe-interval"));
        }
        if self.video.recommended.len() > MAX_ENTRIES {
            return Err(SheetError::TooMany("video.recommended"));
        }
        if self.video.recommended.iter().any(|rate| rate.from_kbps > rate.to_kbps || rate.fps == 0) {
            return Err(SheetError::Backwards("video.recommended"));
        }
        if self.audio.rates_hz.len() > MAX_ENTRIES {
            return Err(SheetError::TooMany("audio.rates"));
        }
        for rate in &self.audio.rates_hz {
            within("audio.rates", Some(f64::from(*rate)), 7_000.0, 192_000.0)?;
        }
        within("audio.max-channels", self.audio.max_channels.map(f64::from), 1.0, 16.0)?;
        within("audio.ceiling", self.audio.ceiling_kbps.map(f64::from), 8.0, 10_000.0)?;
        within("broadcast.longest", self.broadcast.longest_h, 0.001, 10_000.0)?;
        let silence = self.broadcast.survives_silence_s.map(f64::from);
        within("broadcast.survives-silence", silence, 1.0, 86_400.0)?;
        if self.refusals.len() > MAX_ENTRIES {
            return Err(SheetError::TooMany("refusals"));
        }
        let lengths = self.refusals.iter().map(|rule| rule.text.chars().count());
        match lengths.into_iter().find(|length| !(1..=MAX_REFUSAL_TEXT).contains(length)) {
            Some(length) => Err(SheetError::Range {
                rule: "refusals",
                value: format!("a text of {length} characters"),
                least: "1".to_owned(),
                most: MAX_REFUSAL_TEXT.to_string(),
            }),
            None => Ok(()),
        }
    }

    /// Returns the recommended bit rate for a frame size and rate: that of the smallest entry that covers it.
    #[must_use]
    pub fn recommended(&self, lines: u32, fps: f64) -> Option<RecommendedRate> {
        // 29.97 counts as 30.
        let holds = |rate: &&RecommendedRate| rate.lines >= lines && f64::from(rate.fps) + 0.5 >= fps;
        self.video.recommended.iter().filter(holds).min_by_key(|rate| (rate.lines, rate.fps)).copied()
    }
}

fn known(rule: &'static str, words: &[String], known: &[&str]) -> Result<(), SheetError> {
    match words.iter().find(|word| !known.contains(&word.as_str())) {
        Some(word) => Err(SheetError::Word { rule, word: word.clone(), known: known.join(", ") }),
        None => Ok(()),
    }
}

fn within(rule: &'static str, value: Option<f64>, least: f64, most: f64) -> Result<(), SheetError> {
    match value {
        Some(value) if !(least..=most).contains(&value) => Err(SheetError::Range {
            rule,
            value: value.to_string(),
            least: least.to_string(),
            most: most.to_string(),
        }),
        _ => Ok(()),
    }
}
