use super::*;
use proptest::prelude::*;
use rstest::rstest;

fn s(seconds: u64) -> Duration {
    Duration::from_secs(seconds)
}

fn wanted() -> FeedMachine {
    let mut machine = FeedMachine::new(1, s(0));
    machine.set_enabled(true, s(0));
    assert_eq!(machine.decide(s(0)), Decision::Dial);
    machine
}

fn cause(code: CauseCode) -> Cause {
    Cause::new(code, "it happened")
}

#[test]
fn enabled_feed_is_dialed_once_and_flows() {
    let mut machine = wanted();
    assert_eq!(machine.decide(s(0)), Decision::Idle);
    machine.on_flowing(s(1));
    assert_eq!((machine.state(), machine.since()), (FeedState::Flowing, s(1)));
    assert_eq!(machine.cause(), None);
}

#[rstest]
#[case::refused(CauseCode::FeedConnectionRefused, true)]
#[case::unreachable(CauseCode::FeedUnreachable, true)]
#[case::closes_connections(CauseCode::FeedClosedByCamera, false)]
#[case::has_no_session_left(CauseCode::FeedTooManyViewers, false)]
fn only_an_absent_camera_is_probed(#[case] code: CauseCode, #[case] is_probed: bool) {
    let mut machine = wanted();
    for _ in 0..4 {
        machine.on_failed(cause(code), s(1));
        machine.decide(s(100));
    }
    machine.on_failed(cause(code), s(100));
    assert_eq!(machine.probe_interval(s(100)).is_some(), is_probed);
    machine.on_probe_answered(s(101));
    assert_eq!(machine.state() == FeedState::Dialing, is_probed);
}

#[test]
fn probes_calm_down_after_ten_minutes_of_absence() {
    let mut machine = wanted();
    let (mut now, mut intervals) = (s(0), Vec::new());
    while now < s(1_200) {
        machine.on_failed(cause(CauseCode::FeedNoAnswer), now);
        intervals.push((now, machine.probe_interval(now).unwrap()));
        now += s(5);
        assert_eq!(machine.decide(now), Decision::Dial);
    }
    for (at, interval) in intervals {
        let expected = if at < s(600) { Duration::from_millis(700) } else { s(3) };
        assert_eq!(interval, expected, "after {at:?}");
    }
    machine.on_flowing(now);
    machine.on_failed(cause(CauseCode::FeedNoAnswer), now);
    assert_eq!(machine.probe_interval(now), Some(Duration::from_millis(700)));
}

#[test]
fn a_failed_feed_waits_about_a_second_and_never_more_than_about_five() {
    let mut machine = wanted();
    let mut now = s(0);
    for attempt in 0..20 {
        machine.on_failed(cause(CauseCode::FeedConnectionRefused), now);
        let Decision::WaitUntil(until) = machine.decide(now) else { panic!() };
        let delay = until - now;
        if attempt == 0 {
            assert!(delay >= Duration::from_millis(900) && delay <= Duration::from_millis(1_100));
        }
        assert!(delay <= Duration::from_millis(5_500), "{delay:?}");
        now = until;
        assert_eq!(machine.decide(now), Decision::Dial);
    }
}

#[test]
fn cause_is_shown_during_retries_until_video_arrives() {
    let mut machine = wanted();
    machine.on_failed(cause(CauseCode::FeedNoAnswer), s(1));
    assert_eq!(machine.decide(s(10)), Decision::Dial);
    assert!(machine.cause().is_some());
    machine.on_flowing(s(11));
    assert_eq!(machine.cause(), None);
}

#[rstest]
#[case(CauseCode::FeedWrongPassword, 1)]
#[case(CauseCode::FeedNoSuchStream, 3)]
#[case(CauseCode::FeedCodecUnsupported, 1)]
fn feed_that_never_worked_blocks_and_is_retried(#[case] code: CauseCode, #[case] tries: u32) {
    let mut machine = wanted();
    let mut now = s(0);
    for attempt in 1..=tries {
        machine.on_failed(cause(code), now);
        assert_eq!(matches!(machine.state(), FeedState::Blocked { .. }), attempt == tries);
        let Decision::WaitUntil(until) = machine.decide(now) else { panic!("{:?}", machine.state()) };
        now = until;
        assert_eq!(machine.decide(now), Decision::Dial);
    }
    assert!(now >= s(60));
    machine.on_failed(cause(code), now);
    machine.set_enabled(true, now);
    assert_eq!(machine.decide(now), Decision::Dial, "a person's request is tried at once");
}

#[rstest]
#[case::recorder_without_channels(CauseCode::FeedNoSuchStream)]
#[case::recorder_without_accounts(CauseCode::FeedWrongPassword)]
#[case::certificate_not_valid_yet(CauseCode::FeedTlsUntrusted)]
fn booting_recorder_is_back_within_15_seconds_of_being_ready(#[case] code: CauseCode) {
    let mut machine = wanted();
    machine.on_flowing(s(1));
    machine.on_failed(cause(CauseCode::FeedClosedByCamera), s(100));
    let mut now = s(101);
    let ready = s(161);
    loop {
        match machine.decide(now) {
            Decision::Dial if now >= ready => break,
            Decision::Dial => machine.on_failed(cause(code), now),
            Decision::WaitUntil(until) => now = until,
            Decision::Idle => panic!("nothing leads out of {:?}", machine.state()),
        }
        assert!(!matches!(machine.state(), FeedState::Blocked { .. }));
    }
    assert!(now <= ready + s(15), "tried {:?} after it was ready", now - ready);
}

#[test]
fn intermittent_camera_does_not_make_the_state_flap() {
    let mut machine = wanted();
    machine.on_flowing(s(1));
    let mut changes = 0;
    for tick in 0..600_u64 {
        let now = s(2) + Duration::from_millis(tick * 100);
        let before = machine.state();
        machine.on_silent(cause(CauseCode::FeedStalled), now);
        machine.on_flowing(now);
        changes += u32::from(machine.state() != before);
    }
    // 60 s.
    assert!(changes <= 120, "{changes} changes");
}

#[test]
fn warning_about_keyframes_shows_while_the_feed_flows() {
    let mut machine = wanted();
    machine.on_flowing(s(1));
    machine.on_warning(Some(cause(CauseCode::FeedNoKeyframe)));
    assert_eq!(machine.state(), FeedState::Flowing);
    assert_eq!(machine.cause().map(|cause| cause.code), Some(CauseCode::FeedNoKeyframe));
    machine.on_warning(None);
    assert_eq!(machine.cause(), None);
}

#[test]
fn first_connection_does_not_count_as_reconnection() {
    let mut machine = wanted();
    machine.on_flowing(s(1));
    machine.on_failed(cause(CauseCode::FeedClosedByCamera), s(2));
    assert_eq!(machine.decide(s(10)), Decision::Dial);
    machine.on_flowing(s(11));
    assert_eq!(machine.reconnects(), 1);
}

#[test]
fn silence_shows_as_stalled_and_ends_when_media_returns() {
    let mut machine = wanted();
    machine.on_flowing(s(1));
    machine.on_silent(cause(CauseCode::FeedStalled), s(3));
    assert_eq!(machine.state(), FeedState::Stalled);
    machine.on_flowing(s(4));
    assert_eq!((machine.state(), machine.reconnects()), (FeedState::Flowing, 0));
}

#[test]
fn a_feed_switched_off_ignores_late_failures() {
    let mut machine = wanted();
    machine.set_enabled(false, s(1));
    machine.on_failed(cause(CauseCode::FeedNoAnswer), s(2));
    assert_eq!((machine.state(), machine.decide(s(99))), (FeedState::Off, Decision::Idle));
}

proptest! {
    /// Whatever happens: no dial comes sooner than 0.9 s after a failure, and every state but off,
    /// flowing and blocked-by-choice has a way forward.
    #[test]
    fn dials_keep_their_distance_under_any_events(
        events in prop::collection::vec((0_u8..6, 0_u64..3_000), 1..300), seed: u64,
    ) {
        let mut machine = FeedMachine::new(seed, Duration::ZERO);
        let mut now = Duration::ZERO;
        let mut failed_at: Option<Duration> = None;
        machine.set_enabled(true, now);
        for (event, wait) in events {
            now += Duration::from_millis(wait);
            match event {
                0 => machine.on_flowing(now),
                1 => machine.on_silent(cause(CauseCode::FeedStalled), now),
                2 | 3 => {
                    // A feed that is blocked has no connection that could fail.
                    if !matches!(machine.state(), FeedState::Blocked { .. }) {
                        failed_at = Some(now);
                    }
                    machine.on_failed(cause(CauseCode::FeedNoAnswer), now);
                }
                4 => machine.on_failed(cause(CauseCode::FeedWrongPassword), now),
                _ => {}
            }
            match machine.decide(now) {
                Decision::Dial => {
                    if let Some(failed) = failed_at.take() {
                        prop_assert!(now - failed >= Duration::from_millis(900));
                    }
                }
                Decision::WaitUntil(until) => prop_assert!(until > now),
                Decision::Idle => {}
            }
            prop_assert_eq!(matches!(machine.state(), FeedState::Waiting { .. } | FeedState::Blocked { .. }), machine.cause().is_some()
                && !matches!(machine.state(), FeedState::Dialing | FeedState::Stalled));
        }
    }
}

#[test]
fn published_feed_waits_for_its_encoder_without_attempts() {
    let mut machine = FeedMachine::new(1, s(0));
    machine.set_listens(true);
    machine.set_enabled(true, s(0));
    assert_eq!(machine.cause().map(|cause| cause.code), Some(CauseCode::FeedNoPublisher));
    assert_eq!((machine.decide(s(3_600)), machine.state().retry_at()), (Decision::Idle, None));
    assert_eq!(machine.probe_interval(s(3_600)), None);
    machine.on_publisher(s(3_600));
    assert_eq!(machine.state(), FeedState::Dialing);
    machine.on_flowing(s(3_601));
    assert_eq!((machine.state(), machine.cause()), (FeedState::Flowing, None));
    machine.on_failed(cause(CauseCode::FeedPublisherEnded), s(3_700));
    assert_eq!(machine.cause().map(|cause| cause.code), Some(CauseCode::FeedPublisherEnded));
    assert_eq!((machine.decide(s(9_999)), machine.state().retry_at()), (Decision::Idle, None));
    // A retry requested by a person changes nothing.
    machine.set_enabled(true, s(9_999));
    assert_eq!(machine.state().as_str(), "waiting");
    machine.on_publisher(s(10_000));
    machine.on_flowing(s(10_001));
    assert_eq!((machine.state(), machine.reconnects()), (FeedState::Flowing, 1));
}
