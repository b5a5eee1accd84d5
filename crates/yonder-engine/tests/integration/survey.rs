//! Surveys and stills, against the railway's cameras.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, rtsp};
use rstest::rstest;
use yonder_engine::{RtpTransport, StillError, SurveyRequest, SurveyView, TransportChoice};
use yonder_sim::{CameraFaults, Impairment, Oddities};

fn request(world: &World, main: &str, sub: Option<&str>) -> SurveyRequest {
    SurveyRequest {
        main: world.feed(main, PASSWORD),
        sub: sub.map(|path| world.feed(path, PASSWORD)),
        duration: Duration::from_secs(5),
    }
}

fn codes(view: &SurveyView) -> Vec<&str> {
    view.advice.iter().map(|advice| advice.code).collect()
}

#[tokio::test(start_paused = true)]
async fn main_and_sub_are_measured_together_each_with_a_picture() {
    let world = World::start();
    let reports = AtomicUsize::new(0);
    let on_progress = |_: &SurveyView| {
        reports.fetch_add(1, Ordering::Relaxed);
    };
    let view = world.engine.survey(request(&world, "/summit/main", Some("/summit/sub")), on_progress).await;
    assert!(view.done && reports.load(Ordering::Relaxed) >= 6, "{reports:?}");
    let (main, sub) = (&view.main, view.sub.as_ref().unwrap());
    let measured = main.measured.unwrap();
    assert!((measured.fps.unwrap() - 25.0).abs() < 0.1, "{measured:?}");
    assert!(
        (1_400..2_400).contains(&measured.video_kbps) && (80..110).contains(&measured.audio_kbps),
        "{measured:?}"
    );
    let keyframes = measured.keyframes.unwrap();
    assert!((keyframes.min_s - 2.0).abs() < 0.05 && (keyframes.max_s - 2.0).abs() < 0.05, "{keyframes:?}");
    assert!((sub.measured.unwrap().fps.unwrap() - 12.5).abs() < 0.1);
    assert_eq!((main.transport, main.shared, main.reception[0].lost), (Some(RtpTransport::Tcp), false, 0));
    let sizes: Vec<(u32, u32)> = [main, sub]
        .iter()
        .map(|stream| stream.still.clone().unwrap().unwrap())
        .map(|still| {
            assert!(still.jpeg.starts_with(&[0xff, 0xd8]) && still.jpeg.ends_with(&[0xff, 0xd9]));
            (still.width, still.height)
        })
        .collect();
    assert_eq!(sizes, [(1280, 720), (640, 360)]);
    assert_eq!(codes(&view), ["survey.no-sound"]);
    world.until("both viewers gone", 3, || world.camera.viewers() == 0).await;
}

#[tokio::test(start_paused = true)]
async fn survey_of_a_running_feed_needs_no_session() {
    let world = World::start();
    world.engine.apply(world.relay("/bandstand", PASSWORD, &[KEY]));
    world.wait_live().await;
    let view = world.engine.survey(request(&world, "/bandstand", None), |_| {}).await;
    let measured = view.main.measured.unwrap();
    assert!(view.main.shared && measured.reordered, "{view:?}");
    assert!(world.engine.still(world.feed("/bandstand", PASSWORD)).await.unwrap().is_ok());
    assert_eq!(world.camera.sessions(), 1);
}

#[rstest]
#[case::own_session(false)]
#[case::feed_that_runs(true)]
#[tokio::test(start_paused = true)]
async fn survey_counts_dropped_parts_by_reason(#[case] runs: bool) {
    let oddities =
        Oddities { vendor_units: true, no_end_marks: true, stray_bytes: true, ..Oddities::default() };
    let world = World::with(CameraFaults { oddities, ..CameraFaults::default() }, None);
    if runs {
        world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
        world
            .wait("skipped", 20, |view| view.feed.skipped.bytes > 0 && view.pushes[0].frames_sent > 250)
            .await;
    }
    let view = world.engine.survey(request(&world, "/summit/main", None), |_| {}).await;
    assert_eq!(view.main.shared, runs);
    let drops = view.main.drops();
    let reasons: Vec<&str> = drops.iter().map(|(reason, _)| *reason).collect();
    assert_eq!(reasons, ["reserved-type", "unterminated-fragment", "stray-bytes"], "{drops:?}");
    // Twenty-five frames per second for five seconds, and nothing from before the survey.
    assert!((100..200).contains(&drops[0].1), "{drops:?}");
    assert_eq!(codes(&view), ["survey.reserved-types", "survey.stray-bytes"]);
}

#[tokio::test(start_paused = true)]
async fn swapped_streams_h265_and_g711_have_advice() {
    let world = World::start();
    let view = world.engine.survey(request(&world, "/summit/sub", Some("/tunnel")), |_| {}).await;
    assert_eq!(codes(&view), ["survey.swapped", "survey.no-sound", "survey.h265", "survey.g711"]);
    let tunnel = view.sub.unwrap();
    let (video, audio) = (tunnel.video.unwrap(), tunnel.audio.unwrap());
    assert_eq!((&*video.codec, &*audio.codec), ("H.265", "G.711 \u{b5}-law"));
    assert_eq!(tunnel.still, Some(Err(StillError::NoDecoder("H.265"))));
}

#[tokio::test(start_paused = true)]
async fn packet_loss_is_counted_and_has_advice() {
    let impairment = Impairment { loss_permille: 30, ..Impairment::default() };
    let world = World::with(CameraFaults { impairment, ..CameraFaults::default() }, None);
    let mut request = request(&world, "/summit/sub", None);
    rtsp(&mut request.main).transport = TransportChoice::Udp;
    // Long enough for a loss in each track.
    request.duration = Duration::from_secs(30);
    let view = world.engine.survey(request, |_| {}).await;
    assert!(codes(&view).contains(&"survey.loss"), "{view:?}");
    assert!(view.main.reception[0].lost > 0 && view.main.reception[0].units_dropped > 0);
}

#[tokio::test(start_paused = true)]
async fn failed_stream_has_its_cause_and_the_other_is_measured() {
    let world = World::start();
    let view = world.engine.survey(request(&world, "/no-such-path", Some("/summit/sub")), |_| {}).await;
    let cause = view.main.cause.unwrap();
    assert_eq!(cause.code, "feed.no-such-stream");
    assert!(cause.probable_causes.iter().any(|reason| reason.contains("channel")), "{cause:?}");
    assert!(view.main.measured.is_none() && view.sub.unwrap().measured.is_some());
}

#[tokio::test(start_paused = true)]
async fn a_survey_of_a_blocked_feed_dials_it_now() {
    let world = World::start();
    world.engine.apply(world.relay("/summit/main", "another password", &[KEY]));
    let blocked = || world.engine.relay("relay").is_some_and(|relay| relay.feed.needs_attention);
    world.until("the feed blocked", 8, blocked).await;
    world.camera.set_account(Some(("rail".to_owned(), "another password".into())));
    let main = world.feed("/summit/main", "another password");
    let request = SurveyRequest { main, sub: None, duration: Duration::from_secs(2) };
    let view = world.engine.survey(request, |_| {}).await;
    assert!(view.main.measured.is_some(), "{:?}", view.main.cause);
    world.wait_live().await;
}
