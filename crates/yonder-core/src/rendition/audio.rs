//! Choice of the audio.

use std::fmt;

use serde::{Deserialize, Serialize};
use yonder_address::Protocol;

use crate::MeasuredAudio;
use crate::platform::{AudioRules, tolerance};

use super::{Need, Requirements};

/// Codec of encoded audio.
const CODEC: &str = "AAC";
/// Sampling rate without a rule, in hertz.
const DEFAULT_RATE_HZ: u32 = 48_000;
/// Sampling rates of the encoder that platforms ask for, in hertz.
const RATES_HZ: [u32; 5] = [48_000, 44_100, 32_000, 24_000, 16_000];
/// Bit rate per channel, in kilobits per second.
const KBPS_PER_CHANNEL: u32 = 64;
/// Minimum bit rate per channel of the encoder, in kilobits per second.
const MIN_KBPS_PER_CHANNEL: u32 = 16;
/// Maximum channels of the encoder.
const MAX_CHANNELS: u32 = 2;

/// Source of encoded audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum AudioSource {
    /// Audio of the feed.
    Feed,
    /// Silence, until the feed has audio.
    Silence,
}

impl AudioSource {
    /// Returns the source for a feed with or without audio.
    #[must_use]
    pub fn of(feed_has_audio: bool) -> Self {
        if feed_has_audio { Self::Feed } else { Self::Silence }
    }

    /// Returns the name of the source.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Feed => "feed",
            Self::Silence => "silence",
        }
    }
}

/// Encoded audio: AAC-LC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct AudioRendition {
    /// Sampling rate in hertz.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u32,
    /// Bit rate in kilobits per second.
    pub kbps: u32,
}

impl AudioRendition {
    /// Returns the facts of the audio.
    pub(super) fn facts(self) -> MeasuredAudio {
        let Self { rate_hz, channels, kbps } = self;
        let (codec, kbps) = (CODEC.to_owned(), Some(kbps.into()));
        MeasuredAudio { codec, rate_hz, channels, kbps, is_decodable: true }
    }
}

impl fmt::Display for AudioRendition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { rate_hz, channels, kbps } = self;
        let plural = if *channels == 1 { "" } else { "s" };
        write!(f, "{CODEC}, {rate_hz} Hz, {channels} channel{plural}, {kbps} kbit/s")
    }
}

/// Returns the audio for a destination, with the reasons; `None` if that of the feed, or none, is accepted, or the
/// platform accepts no format of the encoder.
pub(super) fn choose(
    audio: Option<&MeasuredAudio>,
    requirements: Requirements<'_>,
) -> (Option<AudioRendition>, Vec<Need>) {
    let none = AudioRules::default();
    let rules = requirements.rules.map_or(&none, |rules| &rules.audio);
    let needs = needs(audio, requirements.protocol, rules);
    let is_encodable = rules.codecs.is_empty() || rules.codecs.iter().any(|codec| codec == CODEC);
    let is_decodable = audio.is_none_or(|audio| audio.is_decodable);
    if needs.is_empty() || !is_encodable || !is_decodable {
        return (None, needs);
    }
    let (feed_rate, feed_channels) =
        audio.map_or((DEFAULT_RATE_HZ, MAX_CHANNELS), |audio| (audio.rate_hz, audio.channels));
    let ceiling = rules.ceiling_kbps.unwrap_or(u32::MAX);
    let max_channels = rules.max_channels.unwrap_or(MAX_CHANNELS).min(ceiling / MIN_KBPS_PER_CHANNEL);
    let channels = feed_channels.min(max_channels).min(MAX_CHANNELS);
    let rendition = rate(&rules.rates_hz, feed_rate).filter(|_| channels > 0).map(|rate_hz| AudioRendition {
        rate_hz,
        channels,
        kbps: (KBPS_PER_CHANNEL * channels).min(ceiling),
    });
    (rendition, needs)
}

fn needs(audio: Option<&MeasuredAudio>, protocol: Protocol, rules: &AudioRules) -> Vec<Need> {
    let mut needs = Vec::new();
    let mut add = |check, reason: String| needs.push(Need { check, reason });
    let Some(audio) = audio else {
        if rules.needed {
            add("audio", "the platform requires audio, and the feed has none".to_owned());
        }
        return needs;
    };
    // "G.711" in a sheet covers both of its laws.
    let is_listed = rules.codecs.iter().any(|codec| audio.codec.starts_with(codec.as_str()));
    if !rules.codecs.is_empty() && !is_listed {
        add(
            "audio-codec",
            format!("the platform accepts {}, not {}", rules.codecs.join(" or "), audio.codec),
        );
    } else if protocol == Protocol::Srt && audio.codec != CODEC {
        add("container", format!("MPEG-TS does not support {}", audio.codec));
    } else if rules.codecs.is_empty() && audio.codec != CODEC {
        add("audio-codec", format!("few platforms accept {}", audio.codec));
    }
    if !rules.rates_hz.is_empty() && !rules.rates_hz.contains(&audio.rate_hz) {
        add("audio-rate", format!("the platform does not accept {} Hz", audio.rate_hz));
    }
    if rules.max_channels.is_some_and(|max| audio.channels > max) {
        add("audio-channels", format!("the platform does not accept {} channels", audio.channels));
    }
    if let (Some(kbps), Some(ceiling)) = (audio.kbps, rules.ceiling_kbps)
        && kbps > u64::from(ceiling) + tolerance::AUDIO_KBPS
    {
        add("audio-bit-rate", format!("the platform accepts up to {ceiling} kbit/s of audio, not {kbps}"));
    }
    needs
}

/// Returns the rate of the feed if the platform and the encoder support it, or the highest that both support, up to 48 kHz;
/// `None` without one. Rates of feeds below 32 kHz are raised, since few players expect them in AAC.
fn rate(accepted: &[u32], feed: u32) -> Option<u32> {
    let is_accepted = |rate: &u32| accepted.is_empty() || accepted.contains(rate);
    let highest = RATES_HZ.into_iter().find(is_accepted);
    let is_feed = RATES_HZ.contains(&feed) && is_accepted(&feed) && feed >= 32_000;
    if is_feed { Some(feed) } else { highest }
}
