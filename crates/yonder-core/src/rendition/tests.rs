use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::platform::{AudioRules, RecommendedRate, VideoRules, shipped};
use crate::preflight::{CheckStatus, KeyFacts, PushFacts, Reachability, check_push};
use crate::{MeasuredAudio, MeasuredVideo};

fn feed() -> FeedFacts {
    FeedFacts {
        name: "Summit Station".into(),
        source: crate::SourceKind::Camera,
        cause: None,
        video: Some(MeasuredVideo {
            codec: "H.264".into(),
            width: 1_920,
            height: 1_080,
            fps: Some(25.0),
            kbps: Some(4_000),
            keyframe_s: Some(2.0),
            b_frames: Some(false),
            open_gop: false,
        }),
        audio: Some(MeasuredAudio {
            codec: "AAC".into(),
            rate_hz: 48_000,
            channels: 2,
            kbps: Some(128),
            is_decodable: true,
        }),
    }
}

fn g711() -> Option<MeasuredAudio> {
    Some(MeasuredAudio {
        codec: "G.711 A-law".into(),
        rate_hz: 8_000,
        channels: 1,
        kbps: Some(64),
        is_decodable: true,
    })
}

fn sheet() -> RuleSheet {
    RuleSheet {
        video: VideoRules {
            codecs: vec!["H.264".into()],
            max_width: Some(1_920),
            max_lines: Some(1_080),
            max_fps: Some(30.0),
            ceiling_kbps: Some(6_000),
            max_keyframe_interval_s: Some(4.0),
            b_frames: Some(false),
            ..VideoRules::default()
        },
        audio: AudioRules {
            needed: true,
            codecs: vec!["AAC".into()],
            rates_hz: vec![44_100, 48_000],
            max_channels: Some(2),
            ceiling_kbps: Some(160),
        },
        ..RuleSheet::default()
    }
}

fn requirements(rules: &RuleSheet) -> Requirements<'_> {
    Requirements {
        protocol: Protocol::Rtmp,
        rules: Some(rules),
        limit: Limit::default(),
        available_kbps: None,
    }
}

fn solved(choice: &Choice) -> Vec<&'static str> {
    choice.solved.iter().map(|need| need.check).collect()
}

#[test]
fn accepted_feed_is_sent_as_it_is() {
    let choice = choose(&feed(), requirements(&sheet()), Adapt::All);
    assert_eq!(choice, Choice::default());
    assert!(choice.rendition.is_original());
}

#[test]
fn g711_becomes_aac_at_the_default_rate() {
    let feed = FeedFacts { audio: g711(), ..feed() };
    let choice = choose(&feed, requirements(&sheet()), Adapt::Audio);
    let expected = AudioRendition { rate_hz: 48_000, channels: 1, kbps: 64 };
    assert_eq!(choice.rendition, Rendition { video: None, audio: Some(expected) });
    assert_eq!(solved(&choice), ["audio-codec", "audio-rate"]);
}

#[rstest]
#[case::full_rate(25.0, 4_000)]
#[case::low_rate(6.0, 1_500)]
fn recommended_rate_is_that_of_the_frame_rate(#[case] fps: f64, #[case] kbps: u32) {
    let mut rules = sheet();
    rules.video.max_lines = Some(720);
    rules.video.recommended = vec![RecommendedRate { lines: 720, fps: 30, from_kbps: 1_500, to_kbps: 4_000 }];
    let mut feed = feed();
    feed.video.as_mut().unwrap().fps = Some(fps);
    let video = choose(&feed, requirements(&rules), Adapt::All).rendition.video.unwrap();
    assert_eq!((video.height, video.kbps), (720, kbps));
}

#[rstest]
#[case::srt(Protocol::Srt, &["container"])]
#[case::rtmp(Protocol::Rtmp, &["audio-codec"])]
fn g711_is_encoded_without_a_sheet(#[case] protocol: Protocol, #[case] needs: &[&str]) {
    let feed = FeedFacts { audio: g711(), ..feed() };
    let none = Requirements { protocol, rules: None, limit: Limit::default(), available_kbps: None };
    assert_eq!(solved(&choose(&feed, none, Adapt::Audio)), needs);
}

#[test]
fn missing_audio_becomes_silence_where_it_is_required() {
    let feed = FeedFacts { audio: None, ..feed() };
    let choice = choose(&feed, requirements(&sheet()), Adapt::Audio);
    let audio = choice.rendition.audio.unwrap();
    assert_eq!((audio.rate_hz, audio.channels), (48_000, 2));
    let optional = RuleSheet { audio: AudioRules { needed: false, ..sheet().audio }, ..sheet() };
    assert!(choose(&feed, requirements(&optional), Adapt::Audio).rendition.is_original());
}

#[rstest]
#[case::rate_of_the_feed(44_100, &[44_100, 48_000], 44_100)]
#[case::preferred(22_050, &[44_100, 48_000], 48_000)]
#[case::only_one(48_000, &[44_100], 44_100)]
#[case::low(48_000, &[16_000, 24_000], 24_000)]
fn sampling_rate_is_one_that_platform_and_encoder_support(
    #[case] feed_rate: u32,
    #[case] accepted: &[u32],
    #[case] expected: u32,
) {
    let mut rules = sheet();
    rules.audio.rates_hz = accepted.to_vec();
    rules.audio.codecs = vec!["AAC".into()];
    let audio = MeasuredAudio {
        codec: "Opus".into(),
        rate_hz: feed_rate,
        channels: 2,
        kbps: None,
        is_decodable: true,
    };
    let choice = choose(&FeedFacts { audio: Some(audio), ..feed() }, requirements(&rules), Adapt::Audio);
    assert_eq!(choice.rendition.audio.unwrap().rate_hz, expected);
}

#[test]
fn video_is_adapted_only_if_that_is_allowed() {
    let mut large = feed();
    if let Some(video) = &mut large.video {
        (video.codec, video.width, video.height, video.kbps) = ("H.265".into(), 3_840, 2_160, Some(9_000));
    }
    let refused = choose(&large, requirements(&sheet()), Adapt::Audio);
    assert!(refused.rendition.is_original());
    let names: Vec<&str> = refused.unsolved.iter().map(|need| need.check).collect();
    assert_eq!(names, ["video-codec", "size", "bit-rate"]);
    let choice = choose(&large, requirements(&sheet()), Adapt::All);
    let video = choice.rendition.video.unwrap();
    assert_eq!((video.width, video.height, video.frame_divisor), (1_920, 1_080, 1));
    assert!((3_000..=6_000).contains(&video.kbps), "{video:?}");
    assert!(choice.unsolved.is_empty() && choice.rendition.audio.is_none());
}

#[test]
fn audio_without_a_decoder_is_sent_as_it_is() {
    let audio =
        MeasuredAudio { codec: "AAC".into(), rate_hz: 24_000, channels: 2, kbps: None, is_decodable: false };
    let choice = choose(&FeedFacts { audio: Some(audio), ..feed() }, requirements(&sheet()), Adapt::Audio);
    assert!(choice.rendition.is_original() && choice.unsolved.len() == 1);
}

#[test]
fn nothing_is_adapted_if_nothing_is_allowed() {
    let feed = FeedFacts { audio: g711(), ..feed() };
    let choice = choose(&feed, requirements(&sheet()), Adapt::None);
    assert!(choice.rendition.is_original() && choice.unsolved.len() == 2);
}

#[test]
fn formats_beyond_the_encoder_are_not_solved() {
    let feed = FeedFacts { audio: g711(), ..feed() };
    let mut rules = sheet();
    rules.audio.rates_hz = vec![96_000];
    assert!(choose(&feed, requirements(&rules), Adapt::Audio).rendition.is_original());
    rules = sheet();
    rules.audio.ceiling_kbps = Some(8);
    assert!(choose(&feed, requirements(&rules), Adapt::Audio).rendition.is_original());
}

#[rstest]
#[case::one_channel(24, 1, 24)]
#[case::two_channels(40, 2, 40)]
#[case::enough(320, 2, 128)]
fn audio_stays_below_a_low_ceiling(#[case] ceiling: u32, #[case] channels: u32, #[case] kbps: u32) {
    let mut rules = sheet();
    rules.audio.ceiling_kbps = Some(ceiling);
    let choice = choose(&FeedFacts { audio: None, ..feed() }, requirements(&rules), Adapt::Audio);
    let audio = choice.rendition.audio.unwrap();
    assert_eq!((audio.channels, audio.kbps), (channels, kbps));
}

#[test]
fn video_stays_below_a_slow_uplink() {
    let sheet = sheet();
    let slow = Requirements { available_kbps: Some(80), ..requirements(&sheet) };
    assert_eq!(choose(&feed(), slow, Adapt::All).rendition.video.unwrap().kbps, 80);
}

#[test]
fn codecs_without_an_encoder_are_not_solved() {
    let mut rules = sheet();
    rules.video.codecs = vec!["H.265".into()];
    rules.audio.codecs = vec!["Opus".into()];
    let choice = choose(&feed(), requirements(&rules), Adapt::All);
    let names: Vec<&str> = choice.unsolved.iter().map(|need| need.check).collect();
    assert!(choice.rendition.is_original() && choice.solved.is_empty());
    assert_eq!(names, ["audio-codec", "video-codec"]);
}

#[test]
fn limits_of_a_person_and_of_the_uplink_count_too() {
    let limit = "720p,15fps,2500kbit/s".parse().unwrap();
    let sheet = sheet();
    let choice = choose(&feed(), Requirements { limit, ..requirements(&sheet) }, Adapt::All);
    let video = choice.rendition.video.unwrap();
    assert_eq!((video.width, video.height, video.frame_divisor), (1_280, 720, 2));
    assert!((video.fps - 12.5).abs() < 1e-9 && video.kbps <= 2_500, "{video:?}");
    let slow = Requirements { available_kbps: Some(1_200), ..requirements(&sheet) };
    let choice = choose(&feed(), slow, Adapt::All);
    assert_eq!((choice.rendition.video.unwrap().kbps, solved(&choice)), (1_200, vec!["bit-rate"]));
}

#[test]
fn equal_renditions_are_shared() {
    let audio = AudioRendition { rate_hz: 48_000, channels: 1, kbps: 64 };
    let adapted = Rendition { video: None, audio: Some(audio) };
    let other = Rendition { audio: Some(AudioRendition { channels: 2, ..audio }), ..adapted };
    let groups = share(&[adapted, Rendition::default(), adapted, other]);
    assert_eq!(groups, [(adapted, vec![0, 2]), (Rendition::default(), vec![1]), (other, vec![3])]);
}

#[test]
fn cost_counts_decoded_and_encoded_samples() {
    let limit = "540p,12.5fps".parse().unwrap();
    let sheet = sheet();
    let feed = feed();
    let rendition = choose(&feed, Requirements { limit, ..requirements(&sheet) }, Adapt::All).rendition;
    let speed =
        CodecSpeed { decoded_per_s: 103_680_000.0, encoded_per_s: 25_920_000.0, cores_per_channel: 0.01 };
    let video = feed.video.as_ref().unwrap();
    // 25 frames of 1080 lines are half a core, 12.5 of 540 lines a quarter.
    assert!((estimate_cores(&rendition, video, speed) - 0.75).abs() < 0.01);
    let audio = AudioRendition { rate_hz: 48_000, channels: 2, kbps: 128 };
    let only_audio = Rendition { video: None, audio: Some(audio) };
    assert!((estimate_cores(&only_audio, video, speed) - 0.02).abs() < 1e-9);
}

fn push(protocol: Protocol) -> PushFacts {
    PushFacts {
        destination: "Bramble TV".into(),
        protocol,
        encrypted: true,
        key: KeyFacts { present: true, ..KeyFacts::default() },
        main: Reachability::NotTried,
        backup: None,
    }
}

prop_compose! {
    fn any_feed()(
        is_h265: bool,
        (width, height) in (64_u32..4_200, 64_u32..4_200),
        fps in 1.0_f64..120.0,
        kbps in 50_u64..40_000,
        keyframe_s in 0.2_f64..30.0,
        b_frames: bool,
        open_gop: bool,
        audio in 0_usize..4,
        channels in 1_u32..6,
    ) -> FeedFacts {
        let audio = [None, Some(("AAC", 22_050)), Some(("G.711 µ-law", 8_000)), Some(("AAC", 48_000))][audio];
        FeedFacts {
            name: "Feed".into(),
            source: crate::SourceKind::Camera,
            cause: None,
            video: Some(MeasuredVideo {
                codec: if is_h265 { "H.265" } else { "H.264" }.into(),
                width,
                height,
                fps: Some(fps),
                kbps: Some(kbps),
                keyframe_s: Some(keyframe_s),
                b_frames: Some(b_frames),
                open_gop,
            }),
            audio: audio.map(|(codec, rate_hz)| MeasuredAudio { codec: codec.into(), rate_hz, channels, kbps: Some(300), is_decodable: true }),
        }
    }
}

proptest! {
    /// An adapted stream passes the checks of its platform.
    #[test]
    fn every_rendition_is_accepted_by_its_platform(
        feed in any_feed(),
        number in 0_usize..6,
        is_srt: bool,
    ) {
        let sheet = &shipped()[number];
        let protocol = if is_srt { Protocol::Srt } else { Protocol::Rtmps };
        let wanted = Requirements { protocol, ..requirements(&sheet.rules) };
        let choice = choose(&feed, wanted, Adapt::All);
        prop_assert!(choice.unsolved.is_empty());
        let received = choice.rendition.applied_to(&feed);
        let checks = check_push(&received, &push(protocol), Some((&sheet.name, &sheet.rules)));
        let failed = checks.iter().find(|check| check.level == CheckStatus::Fail && check.check != "protocol");
        prop_assert!(failed.is_none(), "{:?} by {:?}", failed, choice.rendition);
        // A second choice has nothing left to adapt.
        prop_assert!(choose(&received, wanted, Adapt::All).rendition.is_original());
    }

    #[test]
    fn aspect_ratio_is_kept(width in 200_u32..4_200, height in 200_u32..4_200, lines in 144_u32..1_200) {
        let mut feed = feed();
        if let Some(video) = &mut feed.video {
            (video.width, video.height) = (width, height);
        }
        let sheet = RuleSheet::default();
        let limit = Limit { lines: Some(lines), ..Limit::default() };
        let choice = choose(&feed, Requirements { limit, ..requirements(&sheet) }, Adapt::All);
        if let Some(video) = choice.rendition.video {
            prop_assert!(video.height <= lines && video.width.is_multiple_of(2) && video.height.is_multiple_of(2));
            let expected = f64::from(width) * f64::from(video.height) / f64::from(height);
            prop_assert!((f64::from(video.width) - expected).abs() <= 2.0 * f64::from(width) / f64::from(height) + 2.0);
        }
    }
}
