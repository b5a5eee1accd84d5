//! Rendition of a running push.

use crate::preflight::FeedFacts;

use super::{Adapt, Rendition, Requirements, choose};

/// Rendition of a push. It only grows while the push runs: the platform accepts its format whatever the camera sends, and a
/// change would end the broadcast.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Selection {
    rendition: Rendition,
}

impl Selection {
    /// Returns the rendition.
    #[must_use]
    pub fn rendition(&self) -> Rendition {
        self.rendition
    }

    /// Adapts what the destination does not accept of this feed and what is not adapted already. Returns true if the
    /// rendition has changed.
    pub fn update(&mut self, feed: &FeedFacts, requirements: Requirements<'_>, adapt: Adapt) -> bool {
        let chosen = choose(feed, requirements, adapt).rendition;
        let before = self.rendition;
        self.rendition.audio = before.audio.or(chosen.audio);
        self.rendition.video = before.video.or(chosen.video);
        self.rendition != before
    }
}

#[cfg(test)]
mod tests {
    use yonder_address::Protocol;

    use crate::platform::RuleSheet;
    use crate::rendition::Limit;
    use crate::{MeasuredAudio, MeasuredVideo};

    use super::*;

    fn feed(audio: Option<(&str, u32)>) -> FeedFacts {
        let video = MeasuredVideo {
            codec: "H.264".into(),
            width: 1_280,
            height: 720,
            fps: None,
            kbps: None,
            keyframe_s: None,
            b_frames: None,
            open_gop: false,
        };
        let audio = audio.map(|(codec, rate_hz)| MeasuredAudio {
            codec: codec.into(),
            rate_hz,
            channels: 1,
            kbps: None,
            is_decodable: true,
        });
        FeedFacts {
            name: "Thistle Cutting".into(),
            source: crate::SourceKind::Camera,
            cause: None,
            video: Some(video),
            audio,
        }
    }

    #[test]
    fn rendition_stays_when_the_feed_changes() {
        let mut rules = RuleSheet::default();
        rules.audio.codecs = vec!["AAC".into()];
        rules.audio.needed = true;
        let requirements = Requirements {
            protocol: Protocol::Rtmps,
            rules: Some(&rules),
            limit: Limit::default(),
            available_kbps: None,
        };
        let mut selection = Selection::default();
        assert!(!selection.update(&feed(Some(("AAC", 48_000))), requirements, Adapt::Audio));
        assert!(selection.update(&feed(Some(("G.711 A-law", 8_000))), requirements, Adapt::Audio));
        let chosen = selection.rendition();
        assert_eq!(chosen.audio.map(|audio| audio.channels), Some(1));
        for audio in [None, Some(("AAC", 48_000)), Some(("G.711 \u{b5}-law", 8_000))] {
            assert!(!selection.update(&feed(audio), requirements, Adapt::Audio));
        }
        assert_eq!(selection.rendition(), chosen);
    }
}
