use super::*;
use crate::platform::{RuleSheet, shipped};
use crate::{MeasuredAudio, MeasuredVideo};
use rstest::rstest;
use yonder_address::Protocol;

fn video() -> MeasuredVideo {
    MeasuredVideo {
        codec: "H.264".into(),
        width: 1280,
        height: 720,
        fps: Some(25.0),
        kbps: Some(2_500),
        keyframe_s: Some(2.0),
        b_frames: Some(false),
        open_gop: false,
    }
}

fn feed() -> FeedFacts {
    let audio = MeasuredAudio {
        codec: "AAC".into(),
        rate_hz: 48_000,
        channels: 2,
        kbps: Some(96),
        is_decodable: true,
    };
    FeedFacts {
        name: "Summit Station".into(),
        source: crate::SourceKind::Camera,
        cause: None,
        video: Some(video()),
        audio: Some(audio),
    }
}

fn push() -> PushFacts {
    PushFacts {
        destination: "Thistle Fell".into(),
        protocol: Protocol::Rtmps,
        encrypted: true,
        key: KeyFacts { present: true, ..KeyFacts::default() },
        main: Reachability::Reached("name, port and TLS".into()),
        backup: None,
    }
}

fn sheet(name: &str) -> RuleSheet {
    shipped().into_iter().find(|sheet| sheet.name == name).unwrap().rules
}

fn failed() -> Reachability {
    Reachability::Failed(Problem { message: "It happened.".into(), hint: "Do something.".into() })
}

/// Returns name and level of the checks that do not pass.
fn problems(feed: &FeedFacts, push: &PushFacts, rules: &RuleSheet) -> Vec<(&'static str, CheckStatus)> {
    let mut checks = check_feed(feed);
    checks.extend(check_push(feed, push, Some(("Thistle Stage", rules))));
    for check in &checks {
        assert_eq!(check.next_step.is_some(), check.level != CheckStatus::Pass, "{check:?}");
    }
    checks.into_iter().filter(|c| c.level != CheckStatus::Pass).map(|c| (c.check, c.level)).collect()
}

fn rules() -> RuleSheet {
    sheet("Thistle Stage")
}

#[test]
fn conforming_feed_passes_all_checks() {
    assert_eq!(problems(&feed(), &push(), &rules()), []);
}

#[rstest]
#[case::size(|v: &mut MeasuredVideo| (v.width, v.height) = (1920, 1080), ("size", CheckStatus::Fail))]
#[case::codec(|v: &mut MeasuredVideo| v.codec = "H.265".into(), ("video-codec", CheckStatus::Fail))]
#[case::frames(|v: &mut MeasuredVideo| v.fps = Some(50.0), ("frame-rate", CheckStatus::Fail))]
#[case::bits(|v: &mut MeasuredVideo| v.kbps = Some(6_000), ("bit-rate", CheckStatus::Fail))]
#[case::nearly_too_many(|v: &mut MeasuredVideo| v.kbps = Some(4_400), ("bit-rate", CheckStatus::Warn))]
#[case::poor(|v: &mut MeasuredVideo| v.kbps = Some(700), ("bit-rate", CheckStatus::Warn))]
#[case::rich(|v: &mut MeasuredVideo| v.kbps = Some(4_020), ("bit-rate", CheckStatus::Warn))]
#[case::open_gop(|v: &mut MeasuredVideo| v.open_gop = true, ("open-gop", CheckStatus::Warn))]
#[case::long(|v: &mut MeasuredVideo| v.keyframe_s = Some(8.0), ("keyframes", CheckStatus::Fail))]
#[case::short(|v: &mut MeasuredVideo| v.keyframe_s = Some(0.5), ("keyframes", CheckStatus::Warn))]
#[case::unknown(|v: &mut MeasuredVideo| v.keyframe_s = None, ("keyframes", CheckStatus::Warn))]
fn video_is_checked_against_the_rules(
    #[case] change: fn(&mut MeasuredVideo),
    #[case] found: (&str, CheckStatus),
) {
    let mut feed = feed();
    change(feed.video.as_mut().unwrap());
    let problems = problems(&feed, &push(), &rules());
    assert_eq!(problems.first(), Some(&found), "{problems:?}");
}

#[rstest]
#[case::a_frame_less(29.97)]
#[case::measured(30.02)]
fn measured_frame_rates_have_tolerance(#[case] fps: f64) {
    let mut feed = feed();
    feed.video.as_mut().unwrap().fps = Some(fps);
    assert_eq!(problems(&feed, &push(), &rules()), []);
}

#[test]
fn audio_is_checked_against_the_rules() {
    let silent = FeedFacts { audio: None, ..feed() };
    assert_eq!(problems(&silent, &push(), &rules()), [("audio", CheckStatus::Fail)]);
    let with = |change: fn(&mut MeasuredAudio)| {
        let mut feed = feed();
        change(feed.audio.as_mut().unwrap());
        problems(&feed, &push(), &rules())
    };
    assert_eq!(with(|a| a.codec = "G.711 A-law".into()), [("audio-codec", CheckStatus::Fail)]);
    assert_eq!(with(|a| a.rate_hz = 8_000), [("audio-rate", CheckStatus::Warn)]);
    assert_eq!(with(|a| a.kbps = Some(256)), [("audio-bit-rate", CheckStatus::Warn)]);
}

#[test]
fn protocol_and_encryption_are_checked_against_the_rules() {
    let plain = PushFacts { protocol: Protocol::Rtmp, encrypted: false, ..push() };
    assert_eq!(problems(&feed(), &plain, &rules()), [("protocol", CheckStatus::Fail)]);
    let hall = sheet("Marrow Hall");
    let open = PushFacts { protocol: Protocol::Srt, encrypted: false, ..push() };
    assert_eq!(problems(&feed(), &open, &hall), [("encryption", CheckStatus::Fail)]);
    let sealed = PushFacts { protocol: Protocol::Srt, encrypted: true, ..push() };
    assert_eq!(problems(&feed(), &sealed, &hall), []);
}

#[rstest]
#[case::none(KeyFacts::default(), CheckStatus::Fail)]
#[case::expired(KeyFacts { present: true, expires_in_s: Some(-5), ..KeyFacts::default() }, CheckStatus::Fail)]
#[case::soon(KeyFacts { present: true, expires_in_s: Some(90_000), ..KeyFacts::default() }, CheckStatus::Warn)]
#[case::spent(KeyFacts { present: true, spent: true, ..KeyFacts::default() }, CheckStatus::Fail)]
#[case::lost(KeyFacts { present: true, lost: true, ..KeyFacts::default() }, CheckStatus::Fail)]
#[case::twice(KeyFacts { present: true, same_as: Some("Thistle Two".into()), ..KeyFacts::default() }, CheckStatus::Fail)]
#[case::in_use(KeyFacts { present: true, used_by: Some("Viaduct".into()), ..KeyFacts::default() }, CheckStatus::Fail)]
fn stream_keys_are_checked(#[case] key: KeyFacts, #[case] level: CheckStatus) {
    let push = PushFacts { key, ..push() };
    assert_eq!(problems(&feed(), &push, &rules()), [("key", level)]);
}

#[test]
fn srt_does_not_require_a_key() {
    let push = PushFacts { protocol: Protocol::Srt, key: KeyFacts::default(), ..push() };
    assert_eq!(problems(&feed(), &push, &sheet("Marrow Hall")), []);
}

#[test]
fn unreachable_server_fails_unless_there_is_a_backup() {
    let alone = PushFacts { main: failed(), ..push() };
    assert_eq!(problems(&feed(), &alone, &rules()), [("server", CheckStatus::Fail)]);
    let is_standby = PushFacts { backup: Some(Reachability::Reached("all".into())), ..alone.clone() };
    assert_eq!(problems(&feed(), &is_standby, &rules()), [("server", CheckStatus::Warn)]);
    let neither = PushFacts { backup: Some(failed()), ..alone };
    assert_eq!(worst(&check_push(&feed(), &neither, None)), CheckStatus::Fail);
}

#[test]
fn a_camera_that_cannot_be_pulled_fails_with_its_cause() {
    let hint = "Look at it.".to_owned();
    let cause = Some(Problem { message: "The camera does not answer.".into(), hint });
    let checks = check_feed(&FeedFacts { cause, video: None, ..feed() });
    assert_eq!((checks[0].check, checks[0].level), ("pull", CheckStatus::Fail));
    assert!(checks[0].next_step.as_ref().unwrap().contains("--force"));
}

#[test]
fn audio_that_the_container_drops_is_a_warning() {
    let mut feed = feed();
    feed.audio.as_mut().unwrap().codec = "G.711 µ-law".into();
    let push = PushFacts { protocol: Protocol::Srt, ..push() };
    let found = problems(&feed, &push, &RuleSheet::default());
    assert_eq!(found, [("container", CheckStatus::Warn)]);
}

#[test]
fn missing_sheet_is_a_warning() {
    let checks = check_push(&feed(), &push(), None);
    assert!(checks.iter().any(|check| check.check == "rules" && check.level == CheckStatus::Warn));
}

#[test]
fn encoder_that_does_not_publish_yet_is_a_warning() {
    let hint = "Start the encoder.".into();
    let cause = Some(Problem { message: "No encoder publishes to this feed.".into(), hint });
    let feed = FeedFacts { source: crate::SourceKind::Encoder, cause, video: None, ..feed() };
    let checks = check_feed(&feed);
    assert_eq!(checks[0].level, CheckStatus::Warn);
    let step = checks[0].next_step.as_deref().unwrap();
    assert!(step.contains("once the encoder publishes"), "{step}");
}
