use super::*;
use crate::platform::{RuleSheet, shipped};
use rstest::rstest;
use yonder_address::Protocol;

fn video() -> VideoFacts {
    VideoFacts {
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
    let audio = AudioFacts { codec: "AAC".into(), rate_hz: 48_000, channels: 2, kbps: Some(96) };
    FeedFacts { name: "Summit Station".into(), cause: None, video: Some(video()), audio: Some(audio) }
}

fn push() -> PushFacts {
    PushFacts {
        destination: "Thistle Fell".into(),
        protocol: Protocol::Rtmps,
        encrypted: true,
        key: KeyFacts { present: true, ..KeyFacts::default() },
        main: Reach::Reached("name, port and TLS".into()),
        backup: None,
    }
}

fn sheet(name: &str) -> RuleSheet {
    shipped().into_iter().find(|sheet| sheet.name == name).unwrap().rules
}

fn failed() -> Reach {
    Reach::Failed(Trouble { message: "It happened.".into(), hint: "Do something.".into() })
}

/// Returns name and level of the checks that do not pass.
fn trouble(feed: &FeedFacts, push: &PushFacts, rules: &RuleSheet) -> Vec<(&'static str, Level)> {
    let mut checks = check_feed(feed);
    checks.extend(check_push(feed, push, Some(("Thistle Stage", rules))));
    for check in &checks {
        assert_eq!(check.next_step.is_some(), check.level != Level::Pass, "{check:?}");
    }
    checks.into_iter().filter(|c| c.level != Level::Pass).map(|c| (c.check, c.level)).collect()
}

fn rules() -> RuleSheet {
    sheet("Thistle Stage")
}

#[test]
fn what_fits_passes_everywhere() {
    assert_eq!(trouble(&feed(), &push(), &rules()), []);
}

#[rstest]
#[case::size(|v: &mut VideoFacts| (v.width, v.height) = (1920, 1080), ("size", Level::Fail))]
#[case::codec(|v: &mut VideoFacts| v.codec = "H.265".into(), ("video-codec", Level::Fail))]
#[case::frames(|v: &mut VideoFacts| v.fps = Some(50.0), ("frame-rate", Level::Fail))]
#[case::bits(|v: &mut VideoFacts| v.kbps = Some(6_000), ("bit-rate", Level::Fail))]
#[case::nearly_too_many(|v: &mut VideoFacts| v.kbps = Some(4_400), ("bit-rate", Level::Warn))]
#[case::poor(|v: &mut VideoFacts| v.kbps = Some(700), ("bit-rate", Level::Warn))]
#[case::rich(|v: &mut VideoFacts| v.kbps = Some(4_020), ("bit-rate", Level::Warn))]
#[case::open_gop(|v: &mut VideoFacts| v.open_gop = true, ("open-gop", Level::Warn))]
#[case::long(|v: &mut VideoFacts| v.keyframe_s = Some(8.0), ("keyframes", Level::Fail))]
#[case::short(|v: &mut VideoFacts| v.keyframe_s = Some(0.5), ("keyframes", Level::Warn))]
#[case::unknown(|v: &mut VideoFacts| v.keyframe_s = None, ("keyframes", Level::Warn))]
fn pictures_are_held_against_the_rules(#[case] change: fn(&mut VideoFacts), #[case] found: (&str, Level)) {
    let mut feed = feed();
    change(feed.video.as_mut().unwrap());
    let trouble = trouble(&feed, &push(), &rules());
    assert_eq!(trouble.first(), Some(&found), "{trouble:?}");
}

#[rstest]
#[case::a_frame_less(29.97)]
#[case::measured(30.02)]
fn measured_frame_rates_are_taken_for_what_is_meant(#[case] fps: f64) {
    let mut feed = feed();
    feed.video.as_mut().unwrap().fps = Some(fps);
    assert_eq!(trouble(&feed, &push(), &rules()), []);
}

#[test]
fn sound_is_held_against_the_rules() {
    let silent = FeedFacts { audio: None, ..feed() };
    assert_eq!(trouble(&silent, &push(), &rules()), [("audio", Level::Fail)]);
    let with = |change: fn(&mut AudioFacts)| {
        let mut feed = feed();
        change(feed.audio.as_mut().unwrap());
        trouble(&feed, &push(), &rules())
    };
    assert_eq!(with(|a| a.codec = "G.711 A-law".into()), [("audio-codec", Level::Fail)]);
    assert_eq!(with(|a| a.rate_hz = 8_000), [("audio-rate", Level::Warn)]);
    assert_eq!(with(|a| a.kbps = Some(256)), [("audio-bit-rate", Level::Warn)]);
}

#[test]
fn protocol_and_encryption_are_held_against_the_rules() {
    let plain = PushFacts { protocol: Protocol::Rtmp, encrypted: false, ..push() };
    assert_eq!(trouble(&feed(), &plain, &rules()), [("protocol", Level::Fail)]);
    let hall = sheet("Marrow Hall");
    let open = PushFacts { protocol: Protocol::Srt, encrypted: false, ..push() };
    assert_eq!(trouble(&feed(), &open, &hall), [("encryption", Level::Fail)]);
    let sealed = PushFacts { protocol: Protocol::Srt, encrypted: true, ..push() };
    assert_eq!(trouble(&feed(), &sealed, &hall), []);
}

#[rstest]
#[case::none(KeyFacts::default(), Level::Fail)]
#[case::expired(KeyFacts { present: true, expires_in_s: Some(-5), ..KeyFacts::default() }, Level::Fail)]
#[case::soon(KeyFacts { present: true, expires_in_s: Some(90_000), ..KeyFacts::default() }, Level::Warn)]
#[case::spent(KeyFacts { present: true, spent: true, ..KeyFacts::default() }, Level::Fail)]
#[case::lost(KeyFacts { present: true, lost: true, ..KeyFacts::default() }, Level::Fail)]
#[case::twice(KeyFacts { present: true, same_as: Some("Thistle Two".into()), ..KeyFacts::default() }, Level::Fail)]
#[case::in_use(KeyFacts { present: true, used_by: Some("Viaduct".into()), ..KeyFacts::default() }, Level::Fail)]
fn keys_are_looked_at_before_the_platform_does(#[case] key: KeyFacts, #[case] level: Level) {
    let push = PushFacts { key, ..push() };
    assert_eq!(trouble(&feed(), &push, &rules()), [("key", level)]);
}

#[test]
fn srt_may_go_without_a_key() {
    let push = PushFacts { protocol: Protocol::Srt, key: KeyFacts::default(), ..push() };
    assert_eq!(trouble(&feed(), &push, &sheet("Marrow Hall")), []);
}

#[test]
fn a_server_that_cannot_be_reached_fails_unless_there_is_another() {
    let alone = PushFacts { main: failed(), ..push() };
    assert_eq!(trouble(&feed(), &alone, &rules()), [("server", Level::Fail)]);
    let spare = PushFacts { backup: Some(Reach::Reached("all".into())), ..alone.clone() };
    assert_eq!(trouble(&feed(), &spare, &rules()), [("server", Level::Warn)]);
    let neither = PushFacts { backup: Some(failed()), ..alone };
    assert_eq!(worst(&check_push(&feed(), &neither, None)), Level::Fail);
}

#[test]
fn a_camera_that_cannot_be_pulled_fails_with_its_cause() {
    let hint = "Look at it.".to_owned();
    let cause = Some(Trouble { message: "The camera does not answer.".into(), hint });
    let checks = check_feed(&FeedFacts { cause, video: None, ..feed() });
    assert_eq!((checks[0].check, checks[0].level), ("pull", Level::Fail));
    assert!(checks[0].next_step.as_ref().unwrap().contains("--force"));
}

#[test]
fn sound_that_the_container_does_not_carry_is_told() {
    let mut feed = feed();
    feed.audio.as_mut().unwrap().codec = "G.711 µ-law".into();
    let push = PushFacts { protocol: Protocol::Srt, ..push() };
    let found = trouble(&feed, &push, &RuleSheet::default());
    assert_eq!(found, [("container", Level::Warn)]);
}

#[test]
fn without_a_sheet_the_rules_are_said_to_be_unknown() {
    let checks = check_push(&feed(), &push(), None);
    assert!(checks.iter().any(|check| check.check == "rules" && check.level == Level::Warn));
}
