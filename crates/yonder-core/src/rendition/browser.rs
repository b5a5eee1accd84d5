//! Requirements of browsers.

use yonder_address::Protocol;

use crate::platform::RuleSheet;

use super::{Limit, Requirements};

/// Longest keyframe interval without a rendition, in seconds: a segment is as long, and viewers are some segments behind.
const MAX_KEYFRAME_INTERVAL_S: f64 = 10.0;

/// Returns the rules of browsers: codecs that all of them decode.
#[must_use]
pub fn browser_rules() -> RuleSheet {
    let mut rules = RuleSheet { note: "Browsers".to_owned(), ..RuleSheet::default() };
    rules.video.codecs = vec!["H.264".to_owned()];
    rules.video.max_keyframe_interval_s = Some(MAX_KEYFRAME_INTERVAL_S);
    rules.audio.codecs = vec!["AAC".to_owned()];
    rules
}

/// Returns the requirements of browsers with these rules.
#[must_use]
pub fn browser_requirements(rules: &RuleSheet) -> Requirements<'_> {
    // The protocol only decides about codecs that the rules exclude.
    let (protocol, limit) = (Protocol::Rtmps, Limit { lines: None, fps: None, kbps: None });
    Requirements { protocol, rules: Some(rules), limit, available_kbps: None }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::preflight::FeedFacts;
    use crate::rendition::{Adapt, choose};
    use crate::{MeasuredAudio, MeasuredVideo};

    #[rstest]
    #[case::as_it_is("H.264", 2.0, Some("AAC"), false, false)]
    #[case::without_audio("H.264", 2.0, None, false, false)]
    #[case::telephone_audio("H.264", 2.0, Some("G.711"), false, true)]
    #[case::h265("H.265", 2.0, Some("AAC"), true, false)]
    #[case::rare_keyframes("H.264", 12.0, Some("AAC"), true, false)]
    fn browsers_get_codecs_that_they_decode(
        #[case] codec: &str,
        #[case] keyframe_s: f64,
        #[case] audio: Option<&str>,
        #[case] adapts_video: bool,
        #[case] adapts_audio: bool,
    ) {
        let video = MeasuredVideo {
            codec: codec.into(),
            width: 1_920,
            height: 1_080,
            fps: Some(25.0),
            kbps: Some(4_000),
            keyframe_s: Some(keyframe_s),
            b_frames: Some(true),
            open_gop: false,
        };
        let audio = audio.map(|codec| MeasuredAudio {
            codec: codec.into(),
            rate_hz: if codec == "AAC" { 48_000 } else { 8_000 },
            channels: 1,
            kbps: None,
            is_decodable: true,
        });
        let (source, cause) = (crate::SourceKind::Camera, None);
        let feed = FeedFacts { name: "Summit".into(), source, cause, video: Some(video), audio };
        let rules = browser_rules();
        let rendition = choose(&feed, browser_requirements(&rules), Adapt::All).rendition;
        assert_eq!((rendition.video.is_some(), rendition.audio.is_some()), (adapts_video, adapts_audio));
    }
}
