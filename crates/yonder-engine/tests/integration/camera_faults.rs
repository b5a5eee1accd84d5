//! Faults of cameras: each ends flowing again, or blocked with the right cause.

use std::sync::Arc;
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, feed_code, rtsp};
use bytes::Bytes;
use rstest::rstest;
use yonder_core::{FeedPhase, PushPhase};
use yonder_engine::{RelayView, TransportChoice};
use yonder_media::h264::kind_of;
use yonder_sim::{CameraFaults, Impairment, Oddities};

async fn live(path: &str) -> World {
    let world = World::start();
    world.engine.apply(world.relay(path, PASSWORD, &[KEY]));
    world.wait_live().await;
    world
}

fn refusal(status: u16, words: &str) -> CameraFaults {
    CameraFaults { refuses: Some((status, words.to_owned())), ..CameraFaults::default() }
}

#[rstest]
#[case::forbidden(403, "Forbidden", "feed.forbidden", FeedPhase::Blocked)]
#[case::not_found(404, "Not Found", "feed.no-such-stream", FeedPhase::Blocked)]
#[case::crowded(453, "Not Enough Bandwidth", "feed.too-many-viewers", FeedPhase::Waiting)]
#[case::starting(503, "Service Unavailable", "feed.not-ready", FeedPhase::Waiting)]
#[case::something_else(418, "Resting", "feed.protocol", FeedPhase::Waiting)]
#[tokio::test(start_paused = true)]
async fn refusals_have_different_causes_and_are_retried(
    #[case] status: u16,
    #[case] words: &str,
    #[case] code: &str,
    #[case] state: FeedPhase,
) {
    let world = World::with(refusal(status, words), None);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let settled = |view: &RelayView| feed_code(view) == code && view.feed.state == state;
    let view = world.wait("settled", 12, settled).await;
    assert!(view.feed.cause.unwrap().message.contains(words));
    world.camera.change(|faults| faults.refuses = None);
    if state == FeedPhase::Blocked {
        world.engine.withdraw("relay");
        world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    }
    world.wait("flowing", 8, |view| view.feed.state == FeedPhase::Flowing).await;
}

#[tokio::test(start_paused = true)]
async fn password_that_never_worked_blocks_at_once_and_is_rationed() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", "planted-wrong-word", &[KEY]));
    let view = world.wait("blocked", 6, |view| view.feed.state == FeedPhase::Blocked).await;
    let cause = view.feed.cause.unwrap();
    assert_eq!(cause.code, "feed.wrong-password");
    assert!(!cause.probable_causes.is_empty() && !format!("{cause:?}").contains("planted"));
    // It is tried again by itself, but not so soon that the camera would lock the account.
    assert!(view.feed.retry_in.unwrap() > Duration::from_secs(60));
    let refused = world.camera.refused();
    assert!(refused <= 2, "{refused}");
    let retry_in = || world.engine.relay("relay").unwrap().feed.retry_in.unwrap();
    let later = retry_in().saturating_sub(Duration::from_secs(5));
    world.until("five seconds nearer", 8, || retry_in() <= later).await;
    assert_eq!(world.camera.refused(), refused);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait("live", 3, |view| view.pushes[0].state == PushPhase::Live).await;
}

#[tokio::test(start_paused = true)]
async fn occupied_session_is_waited_for() {
    let world = World::with(CameraFaults { max_viewers: Some(1), ..CameraFaults::default() }, None);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    let mut other = world.relay("/viaduct/main", PASSWORD, &[]);
    (other.name, other.feed.name) = ("other".into(), "other feed".into());
    world.engine.apply(other);
    let other = || world.engine.relay("other").unwrap();
    world.until("crowded", 6, || feed_code(&other()) == "feed.too-many-viewers").await;
    world.engine.withdraw("relay");
    world.until("flowing", 8, || other().feed.state == FeedPhase::Flowing).await;
}

#[tokio::test(start_paused = true)]
async fn camera_is_dialed_within_a_second_and_a_half_of_power_on() {
    let world = World::start();
    world.camera.switch_off().await;
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait("refused", 3, |view| feed_code(view) == "feed.connection-refused").await;
    // Long enough for the delays between dials to have grown.
    let is_long = |retry_in: Duration| retry_in > Duration::from_millis(3_500);
    world.wait("a long delay", 30, |view| view.feed.retry_in.is_some_and(is_long)).await;
    let back = tokio::time::Instant::now();
    world.camera.switch_on().unwrap();
    world.wait("live", 5, |view| view.pushes[0].state == PushPhase::Live).await;
    assert!(back.elapsed() < Duration::from_millis(1_500), "{:?}", back.elapsed());
}

#[tokio::test(start_paused = true)]
async fn a_frozen_camera_stalls_and_flows_when_it_thaws() {
    let world = live("/viaduct/main").await;
    world.camera.change(|faults| faults.frozen = true);
    world.wait("stalled", 4, |view| view.feed.state == FeedPhase::Stalled).await;
    world.wait("given up", 6, |view| view.feed.state != FeedPhase::Stalled).await;
    world.camera.change(|faults| faults.frozen = false);
    world.wait("flowing", 12, |view| view.feed.state == FeedPhase::Flowing).await;
}

#[tokio::test(start_paused = true)]
async fn lost_and_reordered_datagrams_never_damage_a_picture() {
    let impairment = Impairment { loss_permille: 50, reorder_permille: 50, duplicate_permille: 20 };
    let world = World::with(CameraFaults { impairment, ..CameraFaults::default() }, None);
    let mut spec = world.relay("/summit/sub", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = TransportChoice::Udp;
    world.engine.apply(spec);
    let lossy = |view: &RelayView| {
        let feed = &view.feed;
        // The reception is that of the present session alone.
        let video = feed.reception.first();
        feed.packets_lost > 5
            && feed.units_dropped > 40
            && view.pushes[0].frames_sent > 15
            && video.is_some_and(|video| video.reordered > 0 && video.repeated > 0)
    };
    world.wait("lossy", 90, lossy).await;
    world.engine.shutdown().await;
    let media = world.media("/summit/sub");
    // Parameter sets that a keyframe repeats may be lost without harm: they are known.
    let slices = |nals: &Vec<Bytes>| -> Vec<Bytes> {
        nals.iter().filter(|nal| kind_of(nal).is_picture()).cloned().collect()
    };
    let pictures: Vec<_> = media.frames.iter().map(|frame| slices(&frame.nals)).collect();
    let received: Vec<_> = world.platform.recording("one").pictures.iter().map(slices).collect();
    assert!(received.len() > 5, "{} pictures", received.len());
    let mut last = None;
    for picture in &received {
        let at = pictures.iter().position(|nals| nals == picture).expect("every picture is whole");
        // Only a keyframe may follow on something else than the picture before it.
        let follows = last.is_none_or(|last: usize| (last + 1) % pictures.len() == at);
        assert!(follows || media.frames[at].keyframe, "{at} after {last:?}");
        last = Some(at);
    }
}

#[tokio::test(start_paused = true)]
async fn loss_of_every_keyframe_has_a_cause_with_figures() {
    let impairment = Impairment { loss_permille: 400, ..Impairment::default() };
    let world = World::with(CameraFaults { impairment, ..CameraFaults::default() }, None);
    let mut spec = world.relay("/summit/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = TransportChoice::Udp;
    world.engine.apply(spec);
    let view = world.wait("a cause", 15, |view| feed_code(view) == "feed.packet-loss").await;
    assert!(view.feed.cause.unwrap().message.contains(" were lost ("));
    assert_eq!(view.pushes[0].frames_sent, 0);
}

#[rstest]
#[case::five_minutes_ahead(300 * 90_000)]
#[case::an_hour_back(-3_600 * 90_000)]
#[tokio::test(start_paused = true)]
async fn a_jump_of_the_cameras_time_is_bridged(#[case] ticks: i64) {
    let world = live("/summit/main").await;
    world.camera.change(|faults| faults.time_jump = (1, ticks));
    let before = world.engine.relay("relay").unwrap().pushes[0].frames_sent;
    world.wait("going on", 8, |view| view.pushes[0].frames_sent > before + 100).await;
    let report = world.platform.report("one").unwrap();
    assert!(report.is_good(), "{report:?}");
    assert_eq!(report.broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn new_ssrcs_and_sequence_numbers_are_followed() {
    let world = live("/summit/main").await;
    world.camera.change(|faults| faults.new_source = 1);
    let before = world.engine.relay("relay").unwrap().pushes[0].frames_sent;
    let view = world.wait("going on", 8, |view| view.pushes[0].frames_sent > before + 60).await;
    assert_eq!((view.feed.reconnects, view.feed.packets_lost), (0, 0));
    let report = world.platform.report("one").unwrap();
    assert!(report.findings.iter().all(|finding| !finding.sentence().contains("stepped back")), "{report:?}");
}

#[tokio::test(start_paused = true)]
async fn a_size_that_changes_in_mid_stream_becomes_new_headers() {
    let world = live("/summit/main").await;
    let size = || world.platform.report("one").unwrap().size();
    world.until("the first size", 3, || size() == Some((1280, 720))).await;
    let bandstand = Arc::new(world.media("/bandstand"));
    world.camera.change(|faults| faults.shows = Some(bandstand));
    world.until("the new size", 8, || size() == Some((1920, 1080))).await;
    let is_wide = |view: &RelayView| view.feed.video.as_ref().is_some_and(|video| video.width == 1920);
    let view = world.wait("the new size in the snapshot", 3, is_wide).await;
    assert_eq!((view.feed.reconnects, view.pushes[0].reconnects), (0, 0));
    let report = world.platform.report("one").unwrap();
    assert!(report.is_good(), "{report:?}");
}

#[tokio::test(start_paused = true)]
async fn missing_keyframe_is_shown_until_one_arrives() {
    let world = World::with(CameraFaults { no_keyframes: true, ..CameraFaults::default() }, None);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world.wait("no keyframe", 10, |view| feed_code(view) == "feed.no-keyframe").await;
    assert!(view.feed.cause.unwrap().message.contains("no keyframe"));
    world.camera.change(|faults| faults.no_keyframes = false);
    world.wait("flowing", 10, |view| view.feed.state == FeedPhase::Flowing).await;
}

#[tokio::test(start_paused = true)]
async fn garbage_in_the_stream_costs_no_session() {
    let world = live("/viaduct/main").await;
    for count in 1..=5 {
        world.camera.change(|faults| faults.garbage = count);
        world.wait("skipped", 3, |view| view.feed.skipped.bytes >= 26 * u64::from(count)).await;
    }
    let before = world.engine.relay("relay").unwrap().pushes[0].frames_sent;
    let goes_on = |view: &RelayView| view.pushes[0].frames_sent > before + 25;
    let view = world.wait("going on", 8, goes_on).await;
    assert_eq!((view.feed.reconnects, view.feed.units_dropped), (0, 0));
}

#[rstest]
#[case::vendor_units(Oddities { vendor_units: true, ..Oddities::default() })]
#[case::no_end_marks(Oddities { no_end_marks: true, ..Oddities::default() })]
#[case::start_codes(Oddities { start_codes: true, ..Oddities::default() })]
#[case::stray_bytes(Oddities { stray_bytes: true, ..Oddities::default() })]
#[case::empty_padding(Oddities { empty_padding: true, ..Oddities::default() })]
#[case::refused_keep_alives(Oddities { refused_keep_alives: true, ..Oddities::default() })]
#[case::odd_heads(Oddities { odd_heads: true, ..Oddities::default() })]
#[case::silent_options(Oddities { silent_options: true, ..Oddities::default() })]
#[case::no_range(Oddities { no_range: true, ..Oddities::default() })]
#[case::other_payload_type(Oddities { other_payload_type: true, ..Oddities::default() })]
#[case::many_at_once(Oddities { vendor_units: true, no_end_marks: true, stray_bytes: true, odd_heads: true,
    refused_keep_alives: true, no_range: true, ..Oddities::default() })]
#[tokio::test(start_paused = true)]
async fn oddities_of_firmware_cost_neither_a_session_nor_a_picture(
    #[case] oddities: Oddities,
    #[values("/viaduct/main", "/summit/main")] stream: &str,
) {
    let world = World::with(CameraFaults { oddities, timeout_s: Some(2), ..CameraFaults::default() }, None);
    world.engine.apply(world.relay(stream, PASSWORD, &[KEY]));
    let flows = |view: &RelayView| view.feed.state == FeedPhase::Flowing && view.pushes[0].frames_sent > 100;
    let view = world.wait("flowing", 30, flows).await;
    assert_eq!((view.feed.reconnects, view.feed.units_dropped), (0, 0), "{view:?}");
    assert_eq!(view.feed.cause, None);
}

#[tokio::test(start_paused = true)]
async fn unreadable_packets_have_their_own_cause() {
    let oddities = Oddities { unreadable: true, ..Oddities::default() };
    let world = World::with(CameraFaults { oddities, ..CameraFaults::default() }, None);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world.wait("named", 40, |view| feed_code(view) == "feed.unreadable").await;
    let message = view.feed.cause.unwrap().message;
    assert!(message.contains("interleaved mode"), "{message}");
}

#[rstest]
#[case(TransportChoice::Tcp)]
#[case(TransportChoice::Udp)]
#[tokio::test(start_paused = true)]
async fn rtcp_bye_is_handled_at_once(#[case] transport: TransportChoice) {
    let world = World::start();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = transport;
    world.engine.apply(spec);
    world.wait_live().await;
    world.camera.change(|faults| faults.goodbye = 1);
    world.wait("noticed", 2, |view| feed_code(view) == "feed.closed-by-camera").await;
    world.wait("back", 5, |view| view.feed.reconnects == 1).await;
}

#[tokio::test(start_paused = true)]
async fn a_clock_that_drifts_is_measured() {
    let world = World::with(CameraFaults { drift_ppm: 20_000, ..CameraFaults::default() }, None);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world
        .wait("measured", 15, |view| {
            view.feed.reception.first().is_some_and(|track| track.drift_ppm.is_some())
        })
        .await;
    let (ppm, uncertainty) = view.feed.reception[0].drift_ppm.unwrap();
    assert!((ppm - 20_000.0).abs() < 2_000.0 + 4.0 * uncertainty, "{ppm} ± {uncertainty}");
}

#[tokio::test(start_paused = true)]
async fn each_dial_resolves_the_name_and_reports_its_steps() {
    let world = World::start();
    world.pace();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).url.host = "localhost".into();
    world.engine.apply(spec);
    let view = world.wait_live().await;
    let steps: Vec<&str> = view.feed.steps.iter().map(|step| step.step.as_str()).collect();
    assert_eq!(
        steps,
        [
            "name found",
            "connected",
            "greeted",
            "signed in",
            "stream described",
            "tracks set up",
            "playing",
            "first keyframe"
        ]
    );
}

#[tokio::test(start_paused = true)]
async fn failed_dial_has_its_step_and_probable_causes() {
    let world = World::start();
    world.pace();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).url.host = "no-such-camera.invalid".into();
    world.engine.apply(spec);
    let view = world.wait("not found", 12, |view| feed_code(view) == "feed.name-not-found").await;
    let cause = view.feed.cause.unwrap();
    assert!(cause.message.contains("looking up the name, after"), "{}", cause.message);
    assert!(cause.probable_causes.iter().any(|reason| reason.contains("misspelled")), "{cause:?}");
    world.engine.withdraw("relay");
    world.camera.switch_off().await;
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world.wait("refused", 5, |view| feed_code(view) == "feed.connection-refused").await;
    let cause = view.feed.cause.unwrap();
    assert!(cause.message.contains("connecting, after 0.0"), "{}", cause.message);
    assert!(cause.probable_causes.iter().any(|reason| reason.contains("switched off")), "{cause:?}");
}
