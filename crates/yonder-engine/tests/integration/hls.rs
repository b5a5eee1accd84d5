//! HLS streams of relays.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use tokio::sync::watch;
use tokio::time::{Instant, timeout};
use yonder_core::PushPhase;
use yonder_engine::{HoldSpec, RelaySpec};
use yonder_media::VideoCodec;
use yonder_media::hls::{LiveWindow, master_playlist, media_playlist};
use yonder_sim::{HlsChecker, Recording, Wanted};

use crate::support::{KEY, PASSWORD, World};

/// Viewer that fetches every segment of a relay's stream.
struct Viewer {
    stream: watch::Receiver<Arc<LiveWindow>>,
    checker: HlsChecker,
}

impl Viewer {
    async fn open(world: &World) -> Self {
        let deadline = Instant::now() + Duration::from_secs(30);
        loop {
            if let Some(stream) = world.engine.hls("relay") {
                return Self { stream, checker: HlsChecker::without_dates() };
            }
            assert!(Instant::now() < deadline, "no stream");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    fn window(&self) -> Arc<LiveWindow> {
        Arc::clone(&self.stream.borrow())
    }

    fn fetch(&mut self) {
        let window = Arc::clone(&self.stream.borrow_and_update());
        let Some(playlist) = media_playlist(&window) else { return };
        for wanted in self.checker.playlist(&playlist) {
            match wanted {
                Wanted::Init(uri) => {
                    let number = uri.trim_start_matches("init-").trim_end_matches(".mp4").parse().unwrap();
                    self.checker.init(&uri, &window.init(number).unwrap().bytes);
                }
                Wanted::Segment(number, _) => {
                    let data = Bytes::from(window.segment(number).unwrap().pieces.concat());
                    self.checker.segment(number, &data);
                }
            }
        }
    }

    /// Watches until the segments have so many seconds.
    async fn watch(&mut self, seconds: f64) {
        let watching = async {
            while self.checker.seconds() < seconds {
                self.fetch();
                self.stream.changed().await.unwrap();
            }
        };
        timeout(Duration::from_secs_f64(seconds + 30.0), watching).await.expect("too few segments");
    }

    /// Asserts that nothing is wrong, and that every picture and audio frame is the camera's.
    fn assert_exact(&self, world: &World, path: &str) {
        assert_eq!(self.checker.faults(), [""; 0]);
        let pictures = self.checker.pictures().iter().map(nals).collect();
        let recording = Recording { pictures, audio: self.checker.audio().to_vec(), ..Recording::default() };
        world.assert_recording_exact(&recording, path);
    }
}

/// Returns the NAL units of a sample with length prefixes.
fn nals(sample: &Bytes) -> Vec<Bytes> {
    let (mut nals, mut at) = (Vec::new(), 0);
    while at < sample.len() {
        let length = u32::from_be_bytes(sample[at..at + 4].try_into().unwrap()) as usize;
        nals.push(sample.slice(at + 4..at + 4 + length));
        at += 4 + length;
    }
    nals
}

fn shared(world: &World, path: &str, keys: &[&str]) -> RelaySpec {
    RelaySpec { hls: true, ..world.relay(path, PASSWORD, keys) }
}

#[rstest::rstest]
#[case::reordered_frames("/bandstand")]
#[case::regular("/summit/main")]
#[tokio::test(start_paused = true)]
async fn segments_have_the_pictures_and_the_audio_of_the_camera(#[case] path: &str) {
    let world = World::start();
    world.engine.apply(shared(&world, path, &[KEY]));
    let mut viewer = Viewer::open(&world).await;
    viewer.watch(60.0).await;
    viewer.assert_exact(&world, path);
    assert_eq!(viewer.checker.discontinuities(), 0);
    let window = viewer.window();
    let master = master_playlist(&window).unwrap();
    let media = world.media(path);
    let size = media.video.facts();
    assert!(master.contains(&format!("RESOLUTION={}x{}", size.width, size.height)), "{master}");
    assert!(master.contains("CODECS=\"avc1.") && master.contains(",mp4a.40.2\""), "{master}");
    let rate: f64 = master.split("FRAME-RATE=").nth(1).unwrap().lines().next().unwrap().parse().unwrap();
    let expected = media.frame_rate.fps();
    assert!((rate - expected).abs() < 0.1, "{rate} instead of {expected}");
    assert!(window.bytes() < 8_000_000, "{}", window.bytes());
    assert_eq!(world.engine.relay("relay").unwrap().pushes[0].reconnects, 0);
    // The end of the relay ends the playlist, which is removed later.
    world.engine.withdraw("relay");
    let ended = viewer.stream.wait_for(|window| window.is_ended()).await.unwrap().clone();
    assert!(media_playlist(&ended).unwrap().ends_with("#EXT-X-ENDLIST\n"));
    assert!(world.engine.hls("relay").is_some());
    tokio::time::sleep(Duration::from_secs(61)).await;
    assert!(world.engine.hls("relay").is_none());
}

#[tokio::test(start_paused = true)]
async fn relay_without_a_push_has_a_stream() {
    let world = World::start();
    world.engine.apply(shared(&world, "/summit/main", &[]));
    let mut viewer = Viewer::open(&world).await;
    viewer.watch(20.0).await;
    viewer.assert_exact(&world, "/summit/main");
}

#[tokio::test(start_paused = true)]
async fn stream_begins_and_ends_without_a_touch_to_the_pushes() {
    let world = World::start();
    let with = shared(&world, "/summit/main", &[KEY]);
    let without = RelaySpec { hls: false, ..with.clone() };
    world.engine.apply(without.clone());
    world.wait_live().await;
    assert!(world.engine.hls("relay").is_none());
    world.engine.apply(with.clone());
    let mut viewer = Viewer::open(&world).await;
    viewer.watch(10.0).await;
    // Applied again, it continues.
    world.engine.apply(with);
    viewer.watch(20.0).await;
    viewer.assert_exact(&world, "/summit/main");
    assert_eq!(viewer.checker.discontinuities(), 0);
    world.engine.apply(without);
    viewer.stream.wait_for(|window| window.is_ended()).await.unwrap();
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.pushes[0].state, view.pushes[0].reconnects), (PushPhase::Live, 0));
}

#[tokio::test(start_paused = true)]
async fn holding_picture_and_return_of_the_camera_are_on_the_stream() {
    let world = World::start();
    let _pace = world.pace();
    let hold = HoldSpec { after: Some(Duration::from_secs(1)), ..HoldSpec::default() };
    world.engine.apply(RelaySpec { hold, ..shared(&world, "/summit/main", &[]) });
    let mut viewer = Viewer::open(&world).await;
    viewer.watch(6.0).await;
    world.camera.switch_off().await;
    viewer.watch(16.0).await;
    world.camera.switch_on().unwrap();
    viewer.watch(30.0).await;
    let checker = &viewer.checker;
    assert_eq!(checker.faults(), [""; 0]);
    let recording =
        Recording { pictures: checker.pictures().iter().map(nals).collect(), ..Recording::default() };
    let (held, back_at) = world.held(&recording, "/summit/main");
    assert!(held > 100, "{held} pictures of the slate");
    assert!(recording.pictures.len() - back_at > 100, "the camera is back");
    // To the slate and back; more only if the camera came back in the midst of a segment.
    assert!((1..=4).contains(&checker.discontinuities()), "{}", checker.discontinuities());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn feed_that_browsers_do_not_decode_is_adapted() {
    let world = World::start();
    world.engine.apply(shared(&world, "/tunnel", &[]));
    let mut viewer = Viewer::open(&world).await;
    viewer.watch(6.0).await;
    assert_eq!(viewer.checker.faults(), [""; 0]);
    let window = viewer.window();
    let newest = window.newest().unwrap();
    assert!(newest.init.codecs.starts_with("avc1.") && newest.init.codecs.ends_with(",mp4a.40.2"));
    assert!(viewer.checker.audio().len() > 200);
    let nal = nals(&viewer.checker.pictures()[0]);
    assert!(VideoCodec::H264.is_random_access(&nal));
}
