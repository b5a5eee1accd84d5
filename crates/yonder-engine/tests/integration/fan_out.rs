//! Fan-out: what one destination does is nobody else's business.

use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, push_code, push_to};
use yonder_core::{DialStep, FeedPhase, PushPhase};
use yonder_engine::{HoldSpec, PushSpec, RelaySpec, RelayView};
use yonder_sim::{Platform, PlatformConfig, PlatformFaults};

const STEADY: usize = 6;

fn key(at: usize) -> String {
    format!("channel-key-{at:04}")
}

fn platform(channels: usize, faults: PlatformFaults) -> Platform {
    let channels = (0..channels).map(|at| (format!("channel-{at}"), key(at).into())).collect();
    let config =
        PlatformConfig { app: "live".into(), channels, record: true, faults, ..PlatformConfig::default() };
    Platform::start(config).unwrap()
}

fn relay(world: &World, pushes: Vec<PushSpec>) -> RelaySpec {
    RelaySpec {
        name: "relay".into(),
        feed: world.feed("/summit/main", PASSWORD),
        pushes,
        hold: HoldSpec::default(),
        hls: false,
    }
}

#[tokio::test(start_paused = true)]
async fn a_stalled_and_a_slow_platform_of_eight_cost_the_other_six_nothing_over_a_minute() {
    let world = World::start();
    let steady = platform(STEADY, PlatformFaults::default());
    // A tenth of what the camera sends.
    let slow = platform(1, PlatformFaults { slow: Some(40_000), ..PlatformFaults::default() });
    let stalled = platform(1, PlatformFaults::default());
    let mut pushes: Vec<PushSpec> =
        (0..STEADY).map(|at| push_to(&format!("steady-{at}"), &steady.server(), &key(at))).collect();
    pushes.push(push_to("slow", &slow.server(), &key(0)));
    pushes.push(push_to("stalled", &stalled.server(), &key(0)));
    world.engine.apply(relay(&world, pushes));
    world.wait_live().await;
    stalled.change(|faults| faults.frozen = true);
    let view = world.wait("lagging", 40, |view| view.pushes[STEADY].state == PushPhase::Lagging).await;
    let message = &view.pushes[STEADY].cause.as_ref().unwrap().message;
    assert_eq!(push_code(&view, STEADY), "push.too-slow");
    assert!(message.contains("kbit/s and the push needs"), "{message}");
    world.wait("given up", 40, |view| push_code(view, STEADY + 1) == "push.no-answer").await;
    let minute = |view: &RelayView| view.pushes[..STEADY].iter().all(|push| push.frames_sent > 60 * 25);
    let view = world.wait("a minute of media", 60, minute).await;
    assert_eq!((view.feed.state, view.feed.reconnects, view.feed.packets_lost), (FeedPhase::Flowing, 0, 0));
    for push in &view.pushes[..STEADY] {
        assert_eq!((push.state, push.frames_dropped, push.reconnects), (PushPhase::Live, 0, 0), "{push:?}");
    }
    let slow_one = &view.pushes[STEADY];
    assert!(slow_one.frames_dropped > 100, "it skips for itself: {slow_one:?}");
    world.engine.shutdown().await;
    for at in 0..STEADY {
        let channel = format!("channel-{at}");
        world.assert_recording_exact(&steady.recording(&channel), "/summit/main");
        assert!(steady.report(&channel).unwrap().is_good());
    }
}

#[tokio::test(start_paused = true)]
async fn pushes_that_come_go_and_change_their_keys_leave_the_others_without_a_hole() {
    let world = World::start();
    let steady = platform(1, PlatformFaults::default());
    let constant = || push_to("constant", &steady.server(), &key(0));
    world.engine.apply(relay(&world, vec![constant()]));
    world.wait_live().await;
    for turn in 0..6 {
        let other = world.push("other", if turn % 2 == 0 { KEY } else { "second-key-0815" });
        world.engine.apply(relay(&world, vec![constant(), other]));
        let view = world
            .wait("both live", 10, |view| view.pushes.iter().all(|push| push.state == PushPhase::Live))
            .await;
        // The last keyframe is at hand: nobody waits for the next.
        let steps = &view.pushes[1].steps;
        let took =
            |wanted: DialStep| steps.iter().find(|step| step.step == wanted).map(|step| step.after).unwrap();
        let waited = took(DialStep::FirstKeyframe).checked_sub(took(DialStep::KeyAccepted)).unwrap();
        assert!(waited < Duration::from_millis(200), "{waited:?}");
        if turn % 3 == 2 {
            world.engine.apply(relay(&world, vec![constant()]));
        }
    }
    world.wait("sending for a while", 20, |view| view.pushes[0].frames_sent > 130).await;
    world.engine.shutdown().await;
    world.assert_recording_exact(&steady.recording("channel-0"), "/summit/main");
    let report = steady.report("channel-0").unwrap();
    assert_eq!(report.broadcasts, 1);
    assert!(report.is_good(), "{report:?}");
}

#[tokio::test(start_paused = true)]
async fn two_stalled_pushes_of_sixty_four_leave_no_gap_on_the_others() {
    const STEADY: usize = 62;
    let world = World::start();
    let steady = platform(STEADY, PlatformFaults::default());
    let stalled = platform(2, PlatformFaults::default());
    let mut pushes: Vec<PushSpec> =
        (0..STEADY).map(|at| push_to(&format!("steady-{at}"), &steady.server(), &key(at))).collect();
    pushes.extend((0..2).map(|at| push_to(&format!("stalled-{at}"), &stalled.server(), &key(at))));
    world.engine.apply(RelaySpec { feed: world.feed("/shed/main", PASSWORD), ..relay(&world, pushes) });
    world.wait("live", 30, |view| view.pushes.iter().all(|push| push.state == PushPhase::Live)).await;
    stalled.change(|faults| faults.frozen = true);
    let is_given_up = |view: &RelayView, at| push_code(view, at) == "push.no-answer";
    world.wait("given up", 30, |view| (STEADY..STEADY + 2).all(|at| is_given_up(view, at))).await;
    let view = world.engine.relay("relay").unwrap();
    for push in &view.pushes[..STEADY] {
        assert_eq!((push.state, push.frames_dropped, push.reconnects), (PushPhase::Live, 0, 0), "{push:?}");
    }
    for at in 0..STEADY {
        let report = steady.report(&format!("channel-{at}")).unwrap();
        assert!(report.longest_stall <= Duration::from_millis(500), "{report:?}");
        assert!(report.is_good(), "{report:?}");
    }
}

#[tokio::test(start_paused = true)]
async fn edits_of_unused_settings_do_not_interrupt_a_broadcast() {
    let world = World::start();
    let platform = platform(1, PlatformFaults::default());
    let push = || push_to("constant", &platform.server(), &key(0));
    world.engine.apply(relay(&world, vec![push()]));
    world.wait_live().await;
    let backup = push_to("", "rtmp://192.0.2.9/live", &key(0)).server;
    let edits = [
        PushSpec { backup: Some(backup), ..push() },
        PushSpec { failback_delay: Duration::from_secs(7), ..push() },
        push(),
    ];
    for edit in edits {
        world.engine.apply(relay(&world, vec![edit]));
        world.flow(15).await;
    }
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.pushes[0].state, view.pushes[0].reconnects), (PushPhase::Live, 0));
    assert_eq!(platform.report("channel-0").unwrap().broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn successor_of_a_replaced_push_waits_for_its_predecessors_end() {
    let world = World::start();
    let platform = platform(1, PlatformFaults::default());
    world.engine.apply(relay(&world, vec![push_to("constant", &platform.server(), &key(0))]));
    world.wait_live().await;
    // Another authority is another push, under the same key at the same server.
    let authority = yonder_sim::TestAuthority::new().unwrap().pem();
    let authority = yonder_engine::PrivateAuthority::from_pem(&authority).unwrap();
    let replaced =
        PushSpec { authority: Some(authority), ..push_to("constant", &platform.server(), &key(0)) };
    world.engine.apply(relay(&world, vec![replaced]));
    let mut causes = std::collections::BTreeSet::new();
    for _ in 0..60 {
        let view = world.engine.relay("relay").unwrap();
        causes.insert(push_code(&view, 0).to_owned());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].reconnects, 0);
    assert_eq!(causes, [String::new()].into(), "the key was never in use twice");
}
