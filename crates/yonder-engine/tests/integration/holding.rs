//! Holding pictures: a broadcast outlives its camera, and returns without a seam.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, feed_code, push_code, push_to};
use rstest::rstest;
use tokio::time::Instant;
use yonder_core::grade::Finding;
use yonder_core::{FeedPhase, PushPhase};
use yonder_engine::{HoldSpec, Picture, PushSpec, RelaySpec};
use yonder_media::aac::SAMPLES_PER_FRAME;
use yonder_sim::{PlatformConfig, PlatformFaults, Recording, SrtConfig};

const SECOND_KEY: &str = "second-key-0815";

fn hold_after(seconds: u64) -> HoldSpec {
    HoldSpec { after: Some(Duration::from_secs(seconds)), ..HoldSpec::default() }
}

/// A platform that ends a broadcast after some seconds of silence, by RTMP and by SRT.
fn world(grace: u64) -> World {
    paced_world(grace).0
}

/// Returns the same, with the factor of its pace.
fn paced_world(grace: u64) -> (World, Arc<AtomicU64>) {
    let faults = PlatformFaults { grace: Some(Duration::from_secs(grace)), ..PlatformFaults::default() };
    let world = World::with_platform(PlatformConfig {
        srt: Some(SrtConfig::default()),
        faults,
        ..PlatformConfig::default()
    });
    let pace = world.pace();
    (world, pace)
}

fn held_relay(world: &World, path: &str, hold: HoldSpec) -> RelaySpec {
    let srt = push_to("to-1", &world.platform.srt_server().unwrap(), SECOND_KEY);
    RelaySpec { pushes: vec![world.push("to-0", KEY), srt], hold, ..world.relay(path, PASSWORD, &[]) }
}

async fn wait_state(world: &World, state: PushPhase) {
    world.wait(state.as_str(), 20, |view| view.pushes.iter().all(|push| push.state == state)).await;
}

fn assert_rises(times: &[i64]) {
    let back = times.windows(2).position(|pair| pair[0] >= pair[1]);
    assert_eq!(back.map(|at| &times[at.saturating_sub(3)..at + 3]), None, "time stepped back");
}

/// Returns how far sound and picture are apart in the camera's last session, in ticks: a camera's session begins at the
/// beginning of its loop.
fn skew(world: &World, recording: &Recording, path: &str) -> i64 {
    let media = world.media(path);
    let (_, back) = world.held(recording, path);
    let picture = recording.shown[back] - media.picture_time(media.frames[0].shown);
    let looped = media.audio.unwrap().frames;
    // Silence was sent until then; four frames in a row are found nowhere else in the loop.
    let begins = |at: usize| looped.windows(4).position(|run| recording.audio[at..].starts_with(run));
    let first = recording.heard.iter().position(|heard| *heard > recording.shown[back]).unwrap();
    let at = begins(first).unwrap();
    let audio =
        recording.heard[first] - i64::try_from(at).unwrap() * i64::from(SAMPLES_PER_FRAME) * 90_000 / 48_000;
    picture - audio
}

#[tokio::test(start_paused = true)]
async fn broadcast_survives_an_absent_camera_and_returns_to_it_at_once() {
    let (world, pace) = paced_world(10);
    world.engine.apply(held_relay(&world, "/bandstand", hold_after(3)));
    world.wait_live().await;
    world.camera.switch_off().await;
    let gone = Instant::now();
    wait_state(&world, PushPhase::Holding).await;
    let took = gone.elapsed();
    assert!(took > Duration::from_secs(2) && took < Duration::from_secs(6), "{took:?}");
    let view = world.engine.relay("relay").unwrap();
    assert_eq!([feed_code(&view), push_code(&view, 0), push_code(&view, 1)], ["feed.connection-refused"; 3]);
    // A minute altogether: six times as long as the platform waits.
    pace.store(10, Ordering::Relaxed);
    tokio::time::sleep_until(gone + Duration::from_secs(60)).await;
    pace.store(1, Ordering::Relaxed);
    world.camera.switch_on().unwrap();
    let returned = Instant::now();
    wait_state(&world, PushPhase::Live).await;
    assert!(returned.elapsed() < Duration::from_millis(1_500), "{:?}", returned.elapsed());
    world.flow(75).await;
    let view = world.engine.relay("relay").unwrap();
    assert!(view.pushes.iter().all(|push| push.reconnects == 0), "{view:?}");
    world.engine.shutdown().await;

    for channel in ["one", "two"] {
        let report = world.platform.report(channel).unwrap();
        assert_eq!(report.broadcasts, 1);
        // The feed was absent for three seconds before the slate: that gap shows, and nothing else. The slate is rendered in
        // real time, in which the test's clock runs on.
        let is_the_hole = |finding: &Finding| match finding {
            Finding::Gap(_, ms) => *ms < 4_600,
            Finding::KeyframesFarApart(ms) => *ms < 6_600,
            Finding::Stalled(span) => *span < Duration::from_millis(4_600),
            _ => false,
        };
        assert!(report.findings.iter().all(is_the_hole), "{:?}", report.findings);
        let recording = world.platform.recording(channel);
        let (held, _) = world.held(&recording, "/bandstand");
        assert!((1_500..1_950).contains(&held), "{held} pictures were held");
        assert_rises(&recording.heard);
        let skew = skew(&world, &recording, "/bandstand");
        assert!(skew.abs() < 90 * 40, "{} ms apart", skew / 90);
    }
}

#[rstest]
#[case::h264_without_sound("/shed/main")]
#[case::h265_with_g711("/tunnel")]
#[tokio::test(start_paused = true)]
async fn operator_holds_and_resumes_without_a_reconnect(#[case] path: &str) {
    let world = world(30);
    world.engine.apply(held_relay(&world, path, hold_after(3)));
    world.wait_live().await;
    world.engine.apply(held_relay(&world, path, HoldSpec { wanted: true, ..hold_after(3) }));
    wait_state(&world, PushPhase::Holding).await;
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.feed.state, push_code(&view, 0)), (FeedPhase::Flowing, ""));
    // Without an encoder of its codec, the last keyframe is repeated, less often than the feed's.
    world.flow(3).await;
    world.engine.apply(held_relay(&world, path, hold_after(3)));
    wait_state(&world, PushPhase::Live).await;
    world.flow(15).await;
    world.engine.shutdown().await;
    for channel in ["one", "two"] {
        let report = world.platform.report(channel).unwrap();
        assert!(report.is_good(), "{report:?}");
        assert_eq!(report.broadcasts, 1);
    }
}

#[tokio::test(start_paused = true)]
async fn push_that_connects_during_a_hold_gets_the_holding_picture() {
    let world = world(30);
    let only = |hold| {
        let mut spec = held_relay(&world, "/viaduct/main", hold);
        spec.pushes.truncate(1);
        spec
    };
    world.engine.apply(only(hold_after(1)));
    world.wait_live().await;
    world.camera.switch_off().await;
    wait_state(&world, PushPhase::Holding).await;
    world.engine.apply(held_relay(&world, "/viaduct/main", hold_after(1)));
    world
        .wait("both holding", 10, |view| view.pushes.len() == 2 && view.pushes[1].state == PushPhase::Holding)
        .await;
    world.platform.switch_off().await;
    world.wait("dropped", 10, |view| view.pushes[0].state == PushPhase::Waiting).await;
    world.platform.switch_on().unwrap();
    wait_state(&world, PushPhase::Holding).await;
    world.camera.switch_on().unwrap();
    wait_state(&world, PushPhase::Live).await;
}

#[tokio::test(start_paused = true)]
async fn a_picture_of_the_users_own_is_shown_and_changed_while_it_is() {
    let world = world(30);
    let picture = |red: u8| {
        let mut file = std::io::Cursor::new(Vec::new());
        let pixels = image::RgbImage::from_pixel(64, 36, image::Rgb([red, 0, 0]));
        pixels.write_to(&mut file, image::ImageFormat::Png).unwrap();
        Some(Arc::new(Picture::read(&file.into_inner()).unwrap()))
    };
    let hold = |picture| HoldSpec { wanted: true, after: None, picture };
    world.engine.apply(held_relay(&world, "/shed/main", HoldSpec::default()));
    world.wait_live().await;
    world.engine.apply(held_relay(&world, "/shed/main", hold(picture(200))));
    wait_state(&world, PushPhase::Holding).await;
    let keyframes = || {
        let recording = world.platform.recording("one");
        let mut seen: Vec<Vec<bytes::Bytes>> = Vec::new();
        let (held, _) = world.held(&recording, "/shed/main");
        for nals in recording.pictures.iter().rev().take(held) {
            if nals.iter().any(|nal| nal[0] & 0x1f == 5) && !seen.contains(nals) {
                seen.push(nals.clone());
            }
        }
        seen.len()
    };
    world.until("the picture is shown", 10, || keyframes() == 1).await;
    world.engine.apply(held_relay(&world, "/shed/main", hold(picture(90))));
    world.until("the other one is shown", 10, || keyframes() == 2).await;
}

#[tokio::test(start_paused = true)]
async fn two_relays_of_one_feed_hold_each_for_itself() {
    let world = world(30);
    let relay = |name: &str, push: PushSpec, wanted| RelaySpec {
        name: name.into(),
        pushes: vec![push],
        hold: HoldSpec { wanted, ..hold_after(3) },
        ..world.relay("/viaduct/main", PASSWORD, &[])
    };
    let one = || world.push("to-0", KEY);
    let two = || world.push("to-1", SECOND_KEY);
    world.engine.apply(relay("relay", one(), false));
    world.engine.apply(relay("other", two(), false));
    world.wait_live().await;
    world
        .until("both are live", 10, || {
            world.engine.relay("other").unwrap().pushes[0].state == PushPhase::Live
        })
        .await;
    world.engine.apply(relay("other", two(), true));
    world
        .until("the other holds", 10, || {
            world.engine.relay("other").unwrap().pushes[0].state == PushPhase::Holding
        })
        .await;
    world.flow_of("other", 50).await;
    assert_eq!(world.engine.relay("relay").unwrap().pushes[0].state, PushPhase::Live);
    world.engine.shutdown().await;
    world.assert_pictures_exact("one", "/viaduct/main");
    let (held, _) = world.held(&world.platform.recording("two"), "/viaduct/main");
    assert!(held > 20, "{held}");
}
