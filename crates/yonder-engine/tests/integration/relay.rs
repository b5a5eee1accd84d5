//! A camera and a platform on loopback, with the engine between them.

use crate::support::{KEY, PASSWORD, World, feed_code, push_code, push_to, rtsp};
use rstest::rstest;
use yonder_core::{FeedPhase, PushPhase};
use yonder_engine::{RtpTransport, TransportChoice};

#[rstest]
#[case::one_slice_with_sound("/summit/main")]
#[case::several_slices("/shed/main")]
#[case::reordered_pictures_with_sound("/bandstand")]
#[case::h265_with_slices_reordering_and_g711("/tunnel")]
#[tokio::test(start_paused = true)]
async fn received_stream_is_bit_for_bit_that_of_the_camera(
    #[case] path: &str,
    #[values(TransportChoice::Tcp, TransportChoice::Udp)] transport: TransportChoice,
) {
    let world = World::start();
    let mut spec = world.relay(path, PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = transport;
    world.engine.apply(spec);
    let view = world.wait("sending for a while", 20, |view| view.pushes[0].frames_sent > 130).await;
    let carrier = if transport == TransportChoice::Udp { RtpTransport::Udp } else { RtpTransport::Tcp };
    assert_eq!((view.feed.transport, view.feed.packets_lost), (Some(carrier), 0));
    world.engine.shutdown().await;
    world.assert_exact("one", path);
}

#[tokio::test(start_paused = true)]
async fn the_measured_facts_are_the_cameras() {
    let world = World::start();
    world.engine.apply(world.relay("/bandstand", PASSWORD, &[KEY]));
    let view = world
        .wait("measured", 20, |view| {
            view.feed
                .video
                .as_ref()
                .is_some_and(|video| video.keyframe_interval_s.is_some() && video.kbps > 0)
        })
        .await;
    let video = view.feed.video.unwrap();
    assert_eq!((&*video.codec, &*video.profile, video.width, video.height), ("H.264", "High", 1920, 1080));
    assert!((video.fps.unwrap() - 30.0).abs() < 0.1, "{video:?}");
    assert!((video.keyframe_interval_s.unwrap() - 2.0).abs() < 0.05, "{video:?}");
    let audio = view.feed.audio.unwrap();
    assert_eq!((&*audio.codec, audio.rate_hz, audio.channels), ("AAC", 48_000, 2));
    let steps: Vec<&str> = view.pushes[0].steps.iter().map(|step| step.step.as_str()).collect();
    assert_eq!(
        steps,
        ["name found", "connected", "greeted", "application accepted", "key accepted", "first keyframe"]
    );
}

#[tokio::test(start_paused = true)]
async fn broadcast_recovers_when_the_camera_returns() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.camera.switch_off().await;
    // The push waits for the same reason, and says so.
    world
        .wait("refused", 10, |view| {
            view.pushes[0].state == PushPhase::Waiting
                && [feed_code(view), push_code(view, 0)] == ["feed.connection-refused"; 2]
        })
        .await;
    world.camera.switch_on().unwrap();
    let view = world.wait_live().await;
    assert_eq!((view.feed.state, view.feed.reconnects), (FeedPhase::Flowing, 1));
    assert_eq!(view.pushes[0].reconnects, 0, "the push stayed connected");
    assert_eq!(world.platform.report("one").unwrap().broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn broadcast_recovers_when_the_platform_returns() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let before = world.wait_live().await;
    world.platform.switch_off().await;
    world.wait("refused", 10, |view| push_code(view, 0) == "push.connection-refused").await;
    world.platform.switch_on().unwrap();
    let view = world.wait_live().await;
    assert_eq!(
        (view.feed.state, view.feed.reconnects, view.pushes[0].reconnects),
        (FeedPhase::Flowing, 0, 1)
    );
    assert!(view.feed.since.duration_since(before.feed.since).unwrap_or_default().as_millis() < 200);
}

#[rstest]
#[case::wrong_password("/viaduct/main", "wrong", "feed.wrong-password", FeedPhase::Blocked)]
#[case::wrong_path("/nowhere", PASSWORD, "feed.no-such-stream", FeedPhase::Blocked)]
#[tokio::test(start_paused = true)]
async fn refusal_of_the_camera_blocks_the_feed(
    #[case] path: &str,
    #[case] password: &str,
    #[case] code: &str,
    #[case] state: FeedPhase,
) {
    let world = World::start();
    world.engine.apply(world.relay(path, password, &[KEY]));
    let view = world.wait("blocked", 15, |view| view.feed.state == state).await;
    assert_eq!(feed_code(&view), code);
    assert!(!format!("{view:?}").contains("wrong:") && !format!("{view:?}").contains(PASSWORD));
}

#[tokio::test(start_paused = true)]
async fn blocked_feed_flows_with_the_correct_password() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", "wrong", &[KEY]));
    world.wait("blocked", 15, |view| view.feed.state == FeedPhase::Blocked).await;
    world.engine.update_feed(world.feed("/viaduct/main", PASSWORD));
    world.wait_live().await;
}

#[tokio::test(start_paused = true)]
async fn a_wrong_key_blocks_its_own_push_and_no_other() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY, "no-such-key-here"]));
    let view = world
        .wait("one live, one blocked", 10, |view| {
            view.pushes[0].state == PushPhase::Live && view.pushes[1].state == PushPhase::Blocked
        })
        .await;
    assert_eq!(push_code(&view, 1), "push.key-refused");
    let message = &view.pushes[1].cause.as_ref().unwrap().message;
    assert!(message.contains("not known here") && !message.contains("no-such-key-here"), "{message}");
}

#[tokio::test(start_paused = true)]
async fn a_key_in_use_is_tried_again_and_goes_live_when_it_is_free() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY, KEY]));
    let view = world
        .wait("one busy", 10, |view| {
            view.pushes.iter().any(|push| {
                push.state == PushPhase::Waiting
                    && push.cause.as_ref().is_some_and(|cause| cause.code == "push.key-busy")
            })
        })
        .await;
    let busy = view.pushes.iter().position(|push| push.state == PushPhase::Waiting).unwrap();
    // The one that holds the key goes.
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY, KEY]);
    spec.pushes.retain(|push| push.destination == view.pushes[busy].destination);
    world.engine.apply(spec);
    world.wait_live().await;
}

#[tokio::test(start_paused = true)]
async fn unresolved_names_have_their_own_cause() {
    let world = World::start();
    world.pace();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    spec.pushes[0] = push_to("to-0", "rtmp://no-such-host.invalid/live", KEY);
    world.engine.apply(spec);
    world.wait("name not found", 15, |view| push_code(view, 0) == "push.name-not-found").await;
}

#[tokio::test(start_paused = true)]
async fn adding_a_destination_does_not_affect_others() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY, "second-key-0815"]));
    let view = world.wait_live().await;
    assert_eq!(view.pushes.len(), 2);
    world.wait("both sending", 10, |view| view.pushes.iter().all(|push| push.frames_sent > 60)).await;
    let report = world.platform.report("one").unwrap();
    assert_eq!(report.broadcasts, 1);
    assert!(report.is_good(), "{report:?}");
}
