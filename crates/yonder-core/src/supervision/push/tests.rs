use super::*;
use crate::cause::CauseCode;
use proptest::prelude::*;
use rstest::rstest;

fn s(seconds: u64) -> Duration {
    Duration::from_secs(seconds)
}

fn cause(code: CauseCode) -> Cause {
    Cause::new(code, "it happened.")
}

fn dialing_push() -> PushMachine {
    let mut machine = PushMachine::new(3, s(0));
    machine.set_enabled(true, s(0));
    machine.on_source(Source::Feed, None, s(0));
    assert_eq!(machine.decide(s(0)), Decision::Dial);
    machine
}

#[test]
fn a_push_waits_for_its_feed_and_names_the_feeds_cause() {
    let mut machine = PushMachine::new(3, s(0));
    machine.set_enabled(true, s(0));
    let away = cause(CauseCode::FeedConnectionRefused);
    machine.on_source(Source::Away, Some(&away), s(1));
    assert_eq!((machine.state().as_str(), machine.decide(s(50))), ("waiting", Decision::Idle));
    assert_eq!(machine.cause(), Some(&away));
    machine.on_source(Source::Feed, None, s(60));
    assert_eq!(machine.decide(s(60)), Decision::Dial);
}

#[test]
fn live_push_survives_an_absent_feed_without_reconnecting() {
    let mut machine = dialing_push();
    machine.on_live(s(1));
    machine.on_source(Source::Away, Some(&cause(CauseCode::FeedStalled)), s(5));
    assert_eq!(machine.state(), PushState::Waiting { until: None });
    machine.on_source(Source::Feed, None, s(9));
    assert_eq!((machine.state(), machine.decide(s(9))), (PushState::Live, Decision::Idle));
    assert_eq!(machine.reconnects(), 0);
}

#[test]
fn live_push_holds_and_resumes_without_reconnecting() {
    let mut machine = dialing_push();
    machine.on_live(s(1));
    let away = cause(CauseCode::FeedStalled);
    machine.on_source(Source::Holding, Some(&away), s(5));
    assert_eq!((machine.state(), machine.cause()), (PushState::Holding, Some(&away)));
    machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), s(6));
    assert_eq!((machine.state(), machine.decide(s(6))), (PushState::Holding, Decision::Idle));
    machine.on_source(Source::Feed, None, s(9));
    assert_eq!((machine.state(), machine.cause(), machine.reconnects()), (PushState::Live, None, 0));
}

#[test]
fn push_lost_during_a_hold_reconnects_with_the_holding_picture() {
    let mut machine = dialing_push();
    machine.on_live(s(1));
    machine.on_source(Source::Holding, None, s(5));
    let now = fail(&mut machine, CauseCode::PushClosedByPlatform, s(60));
    machine.on_live(now);
    machine.on_source(Source::Holding, None, now);
    assert_eq!((machine.state(), machine.reconnects()), (PushState::Holding, 1));
}

#[test]
fn delays_grow_to_about_half_a_minute() {
    let mut machine = dialing_push();
    let mut now = s(0);
    let mut delays = Vec::new();
    for _ in 0..12 {
        machine.on_failed(cause(CauseCode::PushConnectionRefused), now);
        let Decision::WaitUntil(until) = machine.decide(now) else { panic!() };
        delays.push(until - now);
        now = until;
        assert_eq!(machine.decide(now), Decision::Dial);
    }
    assert!(delays[0] <= Duration::from_millis(1_200));
    assert!(delays[11] >= s(24) && delays[11] <= s(36));
}

#[test]
fn redirect_to_a_server_that_is_away_leaves_the_delays_growing() {
    let mut machine = dialing_push();
    let mut now = s(0);
    let mut longest = Duration::ZERO;
    for _ in 0..12 {
        machine.on_redirected(now);
        assert_eq!(machine.decide(now), Decision::Dial);
        machine.on_failed(cause(CauseCode::PushConnectionRefused), now);
        let Decision::WaitUntil(until) = machine.decide(now) else { panic!() };
        longest = longest.max(until - now);
        now = until;
        assert_eq!(machine.decide(now), Decision::Dial);
    }
    assert!(longest > s(20), "{longest:?}");
}

#[test]
fn key_that_never_worked_blocks_at_once_and_is_retried_slowly() {
    let mut machine = dialing_push();
    machine.on_failed(cause(CauseCode::PushKeyRefused), s(1));
    assert_eq!(machine.state(), PushState::Blocked { until: s(66) });
    assert_eq!(machine.decide(s(2)), Decision::WaitUntil(s(66)));
    machine.set_enabled(true, s(10));
    assert_eq!(machine.decide(s(10)), Decision::Dial, "a person's request is tried at once");
    machine.on_failed(cause(CauseCode::PushKeyRefused), s(11));
    assert_eq!(machine.decide(s(76)), Decision::Dial);
}

#[test]
fn busy_key_never_blocks_and_is_tried_every_few_seconds_at_first() {
    let mut machine = dialing_push();
    let mut now = s(100);
    while now < s(3_600) {
        machine.on_failed(cause(CauseCode::PushKeyBusy), now);
        let Decision::WaitUntil(until) = machine.decide(now) else { panic!("{:?}", machine.state()) };
        if now < s(200) {
            assert!(until - now <= s(5));
        }
        now = until;
        machine.decide(now);
    }
    assert!(machine.needs_attention(), "another publisher seems to use the key");
    machine.on_live(now);
    assert_eq!((machine.state(), machine.needs_attention()), (PushState::Live, false));
}

/// Codes that a platform can answer with to a push that was live.
const REFUSALS: [CauseCode; 9] = [
    CauseCode::PushAppRefused,
    CauseCode::PushKeyRefused,
    CauseCode::PushKeyBusy,
    CauseCode::PushNotReady,
    CauseCode::PushCodecRefused,
    CauseCode::PushTlsUntrusted,
    CauseCode::PushPassphraseRefused,
    CauseCode::PushClosedByPlatform,
    CauseCode::PushProtocol,
];

proptest! {
    /// No sequence of answers within an hour of being live ends in `blocked`, and each is tried again.
    #[test]
    fn proven_push_is_never_blocked(
        answers in prop::collection::vec(0..REFUSALS.len(), 1..200), seed: u64, routes in 1_usize..4,
    ) {
        let mut machine = PushMachine::new(seed, s(0)).with_routes(routes, s(120));
        machine.set_enabled(true, s(0));
        machine.on_source(Source::Feed, None, s(0));
        assert_eq!(machine.decide(s(0)), Decision::Dial);
        machine.on_live(s(1));
        let mut now = s(2);
        for answer in answers {
            machine.on_failed(cause(REFUSALS[answer]), now);
            let Decision::WaitUntil(until) = machine.decide(now) else {
                prop_assert!(false, "{:?}", machine.state());
                break;
            };
            let is_blocked = matches!(machine.state(), PushState::Blocked { .. });
            prop_assert!(!is_blocked);
            prop_assert!(until - now <= s(1_800));
            now = until;
            prop_assert_eq!(machine.decide(now), Decision::Dial);
        }
    }
}

#[rstest]
#[case::after_a_steady_broadcast(60, 1_200)]
#[case::after_a_flap(1, 2_400)]
fn only_a_steady_broadcast_resets_the_delay(#[case] held: u64, #[case] most_ms: u64) {
    let mut machine = dialing_push();
    machine.on_failed(cause(CauseCode::PushNoAnswer), s(0));
    assert_eq!(machine.decide(s(5)), Decision::Dial);
    machine.on_live(s(5));
    machine.on_failed(cause(CauseCode::PushClosedByPlatform), s(5 + held));
    let Decision::WaitUntil(until) = machine.decide(s(5 + held)) else { panic!() };
    let delay = until - s(5 + held);
    assert!(
        delay <= Duration::from_millis(most_ms) && delay * 2 > Duration::from_millis(most_ms),
        "{delay:?}"
    );
}

fn fail(machine: &mut PushMachine, code: CauseCode, now: Duration) -> Duration {
    machine.on_failed(cause(code), now);
    let Decision::WaitUntil(until) = machine.decide(now) else { panic!("{:?}", machine.state()) };
    assert_eq!(machine.decide(until), Decision::Dial);
    until
}

fn on_backup() -> (PushMachine, Duration) {
    let mut machine = dialing_push().with_routes(2, s(120));
    let now = fail(&mut machine, CauseCode::PushNoAnswer, s(0));
    assert_eq!(machine.route(), 0);
    let now = fail(&mut machine, CauseCode::PushNoAnswer, now);
    assert_eq!(machine.route(), 1);
    machine.on_live(now);
    (machine, now)
}

#[test]
fn failover_follows_two_failures_and_failback_follows_the_delay() {
    let (mut machine, live) = on_backup();
    assert!(!machine.record_probe(0, true, live + s(10)));
    assert!(!machine.record_probe(0, false, live + s(60)));
    assert!(!machine.record_probe(0, true, live + s(70)));
    assert!(!machine.record_probe(0, true, live + s(189)));
    assert!(machine.record_probe(0, true, live + s(190)));
    machine.on_returned(live + s(190));
    assert_eq!((machine.route(), machine.decide(live + s(190))), (0, Decision::Dial));
}

#[test]
fn the_two_servers_are_tried_in_turn_while_neither_works() {
    let (mut machine, mut now) = on_backup();
    let mut tried = Vec::new();
    for _ in 0..5 {
        now = fail(&mut machine, CauseCode::PushConnectionRefused, now);
        tried.push(machine.route());
    }
    assert_eq!(tried, [0, 1, 0, 1, 0]);
}

#[rstest]
#[case::codec(CauseCode::PushCodecRefused)]
#[case::key_that_never_worked(CauseCode::PushKeyRefused)]
fn refusals_that_hold_for_every_server_cause_no_failover(#[case] code: CauseCode) {
    let mut machine = dialing_push().with_routes(2, s(120));
    let now = fail(&mut machine, code, s(0));
    fail(&mut machine, code, now);
    assert_eq!(machine.route(), 0);
}

#[rstest]
#[case::application_in_maintenance(CauseCode::PushAppRefused)]
#[case::expired_certificate(CauseCode::PushTlsUntrusted)]
#[case::opens_but_refuses_the_publish(CauseCode::PushNotReady)]
#[case::refuses_a_key_that_has_worked(CauseCode::PushKeyRefused)]
fn backup_server_takes_over_within_ten_seconds(#[case] code: CauseCode) {
    let mut machine = dialing_push().with_routes(2, s(120));
    machine.on_live(s(0));
    let mut now = fail(&mut machine, CauseCode::PushClosedByPlatform, s(100));
    while machine.route() == 0 {
        now = fail(&mut machine, code, now);
    }
    assert!(now <= s(110), "{now:?}");
}

#[test]
fn failback_delay_doubles_after_each_failed_return() {
    let (mut machine, mut now) = on_backup();
    let mut returns = Vec::new();
    let begin = now;
    while now < begin + s(12 * 3_600) {
        now += s(15);
        // Its port opens, but the publish is refused.
        if !machine.record_probe(0, true, now) {
            continue;
        }
        returns.push((now - begin).as_secs());
        machine.on_returned(now);
        assert_eq!((machine.route(), machine.decide(now)), (0, Decision::Dial));
        now = fail(&mut machine, CauseCode::PushNotReady, now);
        assert_eq!(machine.route(), 1);
        machine.on_live(now);
    }
    assert!(returns.len() <= 10, "{returns:?}");
    let gaps: Vec<u64> = returns.windows(2).map(|two| two[1] - two[0]).collect();
    assert!(returns[0] >= 120 && gaps[0] >= 240 && gaps[1] >= 480, "{returns:?}");
    assert!(gaps.iter().all(|gap| *gap <= 7_300), "{gaps:?}");
}

#[test]
fn failback_delay_is_short_again_after_a_return_that_held() {
    let (mut machine, live) = on_backup();
    let mut now = live;
    for _ in 0..2 {
        while !machine.record_probe(0, true, now) {
            now += s(15);
        }
        machine.on_returned(now);
        assert_eq!(machine.decide(now), Decision::Dial);
        machine.on_live(now);
        now += s(3_600);
        // Main fails an hour later, twice.
        now = fail(&mut machine, CauseCode::PushNoAnswer, now);
        now = fail(&mut machine, CauseCode::PushNoAnswer, now);
        assert_eq!(machine.route(), 1);
        machine.on_live(now);
    }
    let began = now;
    while !machine.record_probe(0, true, now) {
        now += s(15);
    }
    assert!(now - began <= s(135), "{:?}", now - began);
}

#[test]
fn routes_are_replaced_while_the_push_is_live() {
    let (mut machine, live) = on_backup();
    machine.replace_routes(3, s(60), Some(2));
    assert_eq!((machine.route(), machine.state()), (2, PushState::Live));
    assert!(!machine.record_probe(0, true, live));
    assert!(machine.record_probe(0, true, live + s(60)));
    machine.replace_routes(1, s(60), None);
    assert_eq!(machine.route(), 0);
}

#[test]
fn single_route_is_kept() {
    let mut machine = dialing_push();
    let mut now = s(0);
    for _ in 0..4 {
        now = fail(&mut machine, CauseCode::PushNoAnswer, now);
    }
    assert_eq!(machine.route(), 0);
    assert!(!machine.record_probe(0, true, now));
}

#[test]
fn routes_are_tried_in_turn_and_delays_grow_per_round() {
    let mut machine = dialing_push().with_routes(4, s(120));
    let (mut now, mut tried) = (s(0), Vec::new());
    for _ in 0..10 {
        let before = now;
        now = fail(&mut machine, CauseCode::PushNoAnswer, now);
        tried.push((machine.route(), (now - before) > Duration::from_millis(1_200)));
    }
    let routes: Vec<usize> = tried.iter().map(|(route, _)| *route).collect();
    assert_eq!(routes, [0, 1, 2, 3, 0, 1, 2, 3, 0, 1]);
    let long: Vec<usize> = tried.iter().filter(|(_, long)| *long).map(|(route, _)| *route).collect();
    assert_eq!(long, [0, 0]);
}

#[test]
fn unavailable_uplink_is_left_at_once() {
    let mut machine = dialing_push().with_routes(2, s(120));
    fail(&mut machine, CauseCode::PushUplinkAway, s(0));
    assert_eq!(machine.route(), 1);
}

#[test]
fn failback_goes_to_the_best_stable_route() {
    let mut machine = dialing_push().with_routes(3, s(60));
    let now = fail(&mut machine, CauseCode::PushUplinkAway, s(0));
    let now = fail(&mut machine, CauseCode::PushNoAnswer, now);
    machine.on_live(now);
    assert_eq!(machine.route(), 2);
    assert!(!machine.record_probe(1, true, now) && !machine.record_probe(2, true, now));
    assert!(!machine.record_probe(0, true, now + s(30)));
    assert!(machine.record_probe(1, true, now + s(60)));
    machine.on_returned(now + s(60));
    assert_eq!(machine.route(), 1);
}

#[test]
fn planned_reconnect_keeps_its_route() {
    let (mut machine, live) = on_backup();
    machine.on_returned(live + s(10));
    assert_eq!(machine.route(), 1);
}

#[test]
fn lagging_ends_once_the_backlog_has_been_small_for_a_while() {
    let mut machine = dialing_push();
    machine.on_live(s(1));
    machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), s(2));
    assert_eq!(machine.state(), PushState::Lagging);
    // The reader skips to a keyframe and falls behind again.
    for second in (3..60).step_by(4) {
        machine.on_backlog(None, s(second));
        machine.on_backlog(None, s(second + 2));
        assert_eq!(machine.state(), PushState::Lagging);
        machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), s(second + 3));
    }
    assert_eq!(machine.since(), s(2));
    machine.on_backlog(None, s(71));
    assert_eq!(machine.state(), PushState::Lagging);
    machine.on_backlog(None, s(72));
    assert_eq!((machine.state(), machine.cause()), (PushState::Live, None));
}

proptest! {
    #[test]
    fn only_waiting_and_blocked_pushes_are_dialed(
        events in prop::collection::vec((0_u8..10, 0_u64..40_000), 1..300), seed: u64,
    ) {
        let mut machine = PushMachine::new(seed, Duration::ZERO);
        let mut now = Duration::ZERO;
        for (event, wait) in events {
            now += Duration::from_millis(wait);
            match event {
                0 => machine.set_enabled(true, now),
                1 => machine.set_enabled(false, now),
                2 => machine.on_source(Source::Feed, None, now),
                3 => machine.on_source(Source::Away, Some(&cause(CauseCode::FeedStalled)), now),
                8 => machine.on_source(Source::Holding, Some(&cause(CauseCode::FeedStalled)), now),
                4 => machine.on_live(now),
                5 => machine.on_failed(cause(CauseCode::PushKeyBusy), now),
                6 => machine.on_failed(cause(CauseCode::PushKeyRefused), now),
                7 => machine.on_failed(cause(CauseCode::PushNoAnswer), now),
                _ => machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), now),
            }
            let before = machine.state();
            let decision = machine.decide(now);
            if matches!(before, PushState::Off | PushState::Live | PushState::Holding) {
                prop_assert_eq!(decision, Decision::Idle);
            }
            if decision == Decision::Dial {
                prop_assert!(machine.source != Source::Away);
            }
            if matches!(machine.state(), PushState::Blocked { .. }) {
                prop_assert!(machine.cause().is_some());
            }
        }
    }
}
