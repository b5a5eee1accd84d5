//! Renditions: platforms that do not accept a feed get a version of it that they accept, made once for all of them.

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, push_code, push_to};
use rstest::rstest;
use tokio::net::UdpSocket;
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep_until};
use yonder_core::PushPhase;
use yonder_core::platform::{RecommendedRate, RuleSheet};
use yonder_core::rendition::{Adapt, AudioSource, Limit};
use yonder_engine::{Adaptation, Engine, HoldSpec, PanicPlace, PushSpec, RelaySpec, RelayView};
use yonder_media::aac::SAMPLES_PER_FRAME;
use yonder_media::{FrameRate, Payload};
use yonder_sim::{CameraStream, LoopFrame, LoopMedia, Platform, PlatformConfig, Recording, SrtConfig};

const SECOND_KEY: &str = "second-key-0815";
/// Bit rate of a rendition on a free path.
const CEILING_KBPS: u32 = 1_600;

/// Rules of a platform for H.264 and AAC, which requires audio.
fn rules() -> RuleSheet {
    let mut rules = RuleSheet::default();
    rules.video.codecs = vec!["H.264".into()];
    rules.audio.codecs = vec!["AAC".into()];
    rules.audio.rates_hz = vec![48_000];
    rules.audio.needed = true;
    rules
}

fn adaptation(adapt: Adapt, limit: &str) -> Adaptation {
    let limit: Limit = limit.parse().unwrap();
    Adaptation { adapt, limit, rules: Some(Arc::new(rules())), available_kbps: None }
}

fn world() -> World {
    World::with_platform(PlatformConfig { srt: Some(SrtConfig::default()), ..PlatformConfig::default() })
}

/// Returns a relay with one push by RTMP and one by SRT.
fn relay(world: &World, path: &str, adaptation: &Adaptation) -> RelaySpec {
    let srt = push_to("to-1", &world.platform.srt_server().unwrap(), SECOND_KEY);
    let pushes = [world.push("to-0", KEY), srt];
    let pushes = pushes.map(|push| PushSpec { adaptation: adaptation.clone(), ..push });
    RelaySpec { pushes: pushes.into(), ..world.relay(path, PASSWORD, &[]) }
}

/// Returns the largest distance of two audio frames, in ticks.
fn largest_audio_gap(recording: &Recording) -> i64 {
    recording.heard.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap()
}

/// Checks the audio of a channel. Its distance to the video is at most the frame interval of the slowest camera, with margin.
fn assert_is_aac(world: &World, channel: &str) {
    let report = world.platform.report(channel).unwrap();
    let audio = report.audio.as_ref().map(|audio| (audio.codec, audio.rate_hz));
    assert_eq!(audio, Some(("AAC", 48_000)), "{channel}");
    assert!(report.is_good() && report.skew_ms <= 400, "{channel}: {report:?}");
}

#[rstest]
#[case::g711("/box", AudioSource::Feed)]
#[case::no_audio("/crossing", AudioSource::Silence)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn audio_is_made_once_for_all_pushes(#[case] path: &str, #[case] source: AudioSource) {
    let world = world();
    world.engine.apply(relay(&world, path, &adaptation(Adapt::Audio, "")));
    world.wait_live().await;
    world.flow(24).await;
    let view = world.engine.relay("relay").unwrap();
    let renditions: Vec<_> = view.pushes.iter().map(|push| push.rendition.unwrap()).collect();
    assert!(
        renditions.iter().all(|made| made.shared_by == 2 && made.audio_source == source),
        "{renditions:?}"
    );
    assert!(renditions.iter().all(|made| made.rendition.video.is_none() && made.skipped == 0));
    assert_eq!(view.feed.renditions.len(), 1, "one encoder for both");
    world.engine.shutdown().await;
    for channel in ["one", "two"] {
        assert_is_aac(&world, channel);
        let gap = largest_audio_gap(&world.platform.recording(channel));
        assert!(
            gap <= i64::from(SAMPLES_PER_FRAME) * 90_000 / 48_000 + 90,
            "{channel}: a gap of {gap} ticks"
        );
        // The video is the camera's.
        world.assert_pictures_exact(channel, path);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_encoder_serves_two_relays_of_a_feed() {
    let world = world();
    let adaptation = adaptation(Adapt::Audio, "");
    let first = relay(&world, "/box", &adaptation);
    let other = Platform::start(PlatformConfig {
        app: "live".into(),
        channels: vec![("three".to_owned(), KEY.into())],
        ..PlatformConfig::default()
    })
    .unwrap();
    let third = PushSpec { adaptation, ..push_to("to-2", &other.server(), KEY) };
    world.engine.apply(RelaySpec { name: "second".into(), pushes: vec![third], ..first.clone() });
    world.engine.apply(first);
    world.wait_live().await;
    world.flow(24).await;
    let until = Instant::now() + Duration::from_secs(10);
    while world.engine.relay("second").unwrap().pushes[0].state != PushPhase::Live {
        assert!(Instant::now() < until, "the second relay is not live");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let views = ["relay", "second"].map(|name| world.engine.relay(name).unwrap());
    let shared: Vec<u32> = views
        .iter()
        .flat_map(|view| view.pushes.iter().map(|push| push.rendition.unwrap().shared_by))
        .collect();
    assert_eq!(shared, [3, 3, 3]);
    assert!(views.iter().all(|view| view.feed.renditions.len() == 1), "{views:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn accepted_feed_is_sent_as_it_is() {
    let world = world();
    world.engine.apply(relay(&world, "/summit/main", &adaptation(Adapt::All, "")));
    world.wait_live().await;
    world.flow(25).await;
    let view = world.engine.relay("relay").unwrap();
    assert!(view.pushes.iter().all(|push| push.rendition.is_none()) && view.feed.renditions.is_empty());
    world.engine.shutdown().await;
    world.assert_exact("one", "/summit/main");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn video_is_scaled_and_encoded_for_a_limit() {
    let world = world();
    let mut spec = relay(&world, "/crossing", &adaptation(Adapt::All, "360p,3fps,700kbit/s"));
    // The same feed, as it is.
    spec.pushes[1].adaptation = adaptation(Adapt::None, "");
    world.engine.apply(spec);
    world.wait("live", 20, |view| view.pushes.iter().all(|push| push.state == PushPhase::Live)).await;
    tokio::time::sleep(Duration::from_secs(8)).await;
    let view = world.engine.relay("relay").unwrap();
    let made = view.pushes[0].rendition.unwrap();
    let video = made.rendition.video.unwrap();
    assert_eq!((video.width, video.height, video.frame_divisor, video.kbps), (640, 360, 2, 150));
    assert!(made.cpu_cores > 0.0 && made.skipped == 0, "{made:?}");
    assert!(made.rendition.audio.is_some() && view.pushes[1].rendition.is_none());
    world.engine.shutdown().await;
    let report = world.platform.report("one").unwrap();
    assert_eq!(report.size(), Some((640, 360)));
    assert!(report.is_good() && !report.b_frames, "{report:?}");
    assert!((2.8..=3.2).contains(&report.fps.unwrap()), "{report:?}");
    assert!(report.keyframe_ms <= 2_100 && report.video_kbps <= 150 && report.video_kbps > 50, "{report:?}");
    assert!(report.skew_ms <= 400, "{report:?}");
    world.assert_pictures_exact("two", "/crossing");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn crash_of_a_rendition_ends_only_its_own_output() {
    let world = world();
    let mut spec = relay(&world, "/crossing", &adaptation(Adapt::Audio, ""));
    spec.pushes[0].adaptation = adaptation(Adapt::None, "");
    world.engine.apply(spec);
    world.wait_live().await;
    world.flow(12).await;
    world.engine.panic_in("relay", PanicPlace::Rendition);
    let code = "push.rendition-failed";
    let view = world.wait("failed", 10, |view| push_code(view, 1) == code).await;
    assert_eq!(view.pushes[1].state, PushPhase::Waiting, "{:?}", view.pushes[1]);
    assert!(view.pushes[1].cause.as_ref().unwrap().message.contains("panicked"));
    assert_eq!(view.pushes[0].state, PushPhase::Live);
    world.wait_live().await;
    world.flow(24).await;
    let view = world.engine.relay("relay").unwrap();
    let reconnects: Vec<u64> = view.pushes.iter().map(|push| push.reconnects).collect();
    assert_eq!(reconnects, [0, 0], "the connections stay");
    assert_eq!(view.pushes[1].rendition.unwrap().restarts, 1);
    world.engine.shutdown().await;
    world.assert_pictures_exact("one", "/crossing");
    // Its audio and video both pause for the time of the restart.
    let report = world.platform.report("two").unwrap();
    assert_eq!((report.audio.map(|audio| audio.codec), report.broadcasts), (Some("AAC"), 1));
}

/// The camera freezes, the holding picture bridges it, and the camera returns: audio has no gap at either joint.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn audio_is_continuous_over_a_hold() {
    let world = world();
    let hold = HoldSpec { after: Some(Duration::from_secs(1)), ..HoldSpec::default() };
    let spec = RelaySpec { hold, ..relay(&world, "/box", &adaptation(Adapt::Audio, "")) };
    world.engine.apply(spec);
    world.wait_live().await;
    world.flow(25).await;
    world.camera.change(|faults| faults.frozen = true);
    world.wait("holding", 30, |view| view.pushes.iter().all(|push| push.state == PushPhase::Holding)).await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    world.camera.change(|faults| faults.frozen = false);
    world.wait("live", 60, |view| view.pushes.iter().all(|push| push.state == PushPhase::Live)).await;
    world.flow(25).await;
    let view = world.engine.relay("relay").unwrap();
    assert!(view.pushes.iter().all(|push| push.reconnects == 0), "{view:#?}");
    world.engine.shutdown().await;
    for channel in ["one", "two"] {
        let report = world.platform.report(channel).unwrap();
        assert_eq!(report.broadcasts, 1, "{channel}");
        assert_eq!(report.audio.as_ref().unwrap().codec, "AAC", "{channel}");
        let recording = world.platform.recording(channel);
        assert!(recording.heard.windows(2).all(|pair| pair[1] > pair[0]), "{channel}: audio steps back");
    }
}

/// A power cut while the camera is away: the holding picture has the format of the rendition.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn holding_picture_of_a_rendition_survives_a_restart_without_the_camera() {
    let mut world = world();
    let folder = tempfile::tempdir().unwrap();
    let engine = || Engine::new(tokio::runtime::Handle::current()).with_slate_folder(folder.path().into());
    world.engine = engine();
    let hold = HoldSpec { after: Some(Duration::from_secs(1)), ..HoldSpec::default() };
    let mut spec = RelaySpec { hold, ..relay(&world, "/box", &adaptation(Adapt::Audio, "")) };
    world.engine.apply(spec.clone());
    world.wait_live().await;
    world.flow(12).await;
    let view = world.engine.feed("feed").unwrap();
    let (video, audio) = (view.video.unwrap(), view.audio.unwrap());
    world.engine.shutdown().await;
    world.camera.change(|faults| faults.refuses = Some((503, "Service Unavailable".into())));
    let before = world.platform.report("one").unwrap().audio_frames;

    world.engine = engine();
    // As the records know it.
    spec.feed.measured = Some(yonder_core::preflight::FeedFacts {
        name: "feed".into(),
        source: yonder_core::SourceKind::Camera,
        cause: None,
        video: Some(yonder_core::MeasuredVideo {
            codec: video.codec,
            width: video.width,
            height: video.height,
            fps: None,
            kbps: None,
            keyframe_s: None,
            b_frames: None,
            open_gop: false,
        }),
        audio: Some(yonder_core::MeasuredAudio {
            codec: audio.codec,
            rate_hz: audio.rate_hz,
            channels: audio.channels.into(),
            kbps: None,
            is_decodable: true,
        }),
    });
    world.engine.apply(spec);
    world.wait("holding", 30, |view| view.pushes.iter().all(|push| push.state == PushPhase::Holding)).await;
    let frames = || world.platform.report("one").unwrap().audio_frames;
    world.until("sending silence", 10, || frames() > before + 30).await;
    assert_eq!(world.platform.report("one").unwrap().audio.unwrap().codec, "AAC");
    world.engine.shutdown().await;
}

/// The camera begins to send audio that the platform does not accept: the push reconnects once, with AAC.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn push_changes_to_a_rendition_when_the_camera_changes() {
    let world = world();
    let mut optional = rules();
    optional.audio.needed = false;
    let adaptation = Adaptation { rules: Some(Arc::new(optional)), ..adaptation(Adapt::Audio, "") };
    world.engine.apply(relay(&world, "/shed/main", &adaptation));
    world.wait_live().await;
    world.flow(12).await;
    assert!(world.engine.relay("relay").unwrap().pushes.iter().all(|push| push.rendition.is_none()));
    let with_g711 = Arc::new(world.media("/box"));
    world.camera.change(|faults| {
        faults.shows = Some(with_g711);
        faults.goodbye += 1;
    });
    let adapted = |view: &RelayView| {
        view.pushes.iter().all(|push| push.state == PushPhase::Live && push.rendition.is_some())
    };
    world.wait("adapted", 30, adapted).await;
    world.flow(25).await;
    // The camera without audio again: the platform keeps its stream, with silence.
    let silent = Arc::new(world.media("/shed/main"));
    world.camera.change(|faults| {
        faults.shows = Some(silent);
        faults.goodbye += 1;
    });
    let silent = |view: &RelayView| {
        adapted(view)
            && view.pushes.iter().all(|push| push.rendition.unwrap().audio_source == AudioSource::Silence)
    };
    world.wait("silent", 30, silent).await;
    world.flow(25).await;
    let view = world.engine.relay("relay").unwrap();
    assert!(view.pushes.iter().all(|push| push.reconnects == 1), "{view:#?}");
    world.engine.shutdown().await;
    let report = world.platform.report("one").unwrap();
    assert_eq!(report.audio.map(|audio| (audio.codec, audio.rate_hz)), Some(("AAC", 48_000)));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn overloaded_rendition_skips_frames_and_recovers() {
    let world = world();
    let mut spec = relay(&world, "/crossing", &adaptation(Adapt::Audio, ""));
    spec.pushes[0].adaptation = adaptation(Adapt::None, "");
    world.engine.apply(spec);
    world.wait_live().await;
    world.flow(12).await;
    world.engine.stall_renditions("relay", Duration::from_secs(8));
    let view = world.wait("lagging", 15, |view| view.pushes[1].state == PushPhase::Lagging).await;
    assert_eq!(push_code(&view, 1), "push.rendition-overloaded");
    assert_eq!(view.pushes[0].state, PushPhase::Live);
    world.wait("live again", 40, |view| view.pushes[1].state == PushPhase::Live).await;
    let made = world.engine.relay("relay").unwrap().pushes[1].rendition.unwrap();
    assert!(made.skipped > 0 && made.restarts == 0, "{made:?}");
    world.engine.shutdown().await;
    let gap = largest_audio_gap(&world.platform.recording("two"));
    assert!(
        gap < 2 * i64::from(SAMPLES_PER_FRAME) * 90_000 / 48_000,
        "{gap} ticks: the audio is not skipped"
    );
    world.assert_pictures_exact("one", "/crossing");
}

/// Returns a moving pattern, which needs every bit of its rate.
fn pattern() -> LoopMedia {
    let (video, units) = yonder_codec::encode_sample(640, 360, 100).unwrap();
    let frames = units.into_iter().zip(0..).map(|(unit, shown)| {
        let Payload::Nals(nals) = unit.payload else { panic!("no video") };
        LoopFrame { nals, shown, keyframe: unit.keyframe }
    });
    let frame_rate = FrameRate { frames: 25, per: 1 };
    LoopMedia { frame_rate, video, frames: frames.collect(), audio: None }
}

/// Network path between an SRT push and its platform, whose capacity can be limited. A queue before the limit holds 400 ms;
/// what exceeds it is dropped.
struct Path {
    address: SocketAddr,
    /// Capacity in kilobits per second.
    kbps: watch::Sender<Option<u32>>,
    _task: JoinSet<()>,
}

impl Path {
    async fn start(platform: SocketAddr) -> Self {
        let inner = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let outer = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        outer.connect(platform).await.unwrap();
        let address = inner.local_addr().unwrap();
        let (kbps, capacity) = watch::channel(None);
        let mut task = JoinSet::new();
        task.spawn(carry(inner, outer, capacity));
        Self { address, kbps, _task: task }
    }
}

async fn carry(inner: UdpSocket, outer: UdpSocket, capacity: watch::Receiver<Option<u32>>) {
    let (mut from_push, mut from_platform) = ([0; 2_048], [0; 2_048]);
    let (mut push, mut free_at) = (None, Instant::now());
    let mut queue: VecDeque<(Instant, Vec<u8>)> = VecDeque::new();
    loop {
        let due = queue.front().map(|(at, _)| *at);
        tokio::select! {
            received = inner.recv_from(&mut from_push) => {
                let Ok((length, from)) = received else { continue };
                push = Some(from);
                let now = Instant::now();
                let passage = capacity.borrow().map_or(Duration::ZERO, |kbps| {
                    Duration::from_millis(1) * u32::try_from(length * 8).unwrap() / kbps
                });
                free_at = free_at.max(now) + passage;
                if free_at - now > Duration::from_millis(400) {
                    free_at -= passage;
                } else {
                    queue.push_back((free_at, from_push[..length].to_vec()));
                }
            }
            received = outer.recv(&mut from_platform) => {
                if let (Ok(length), Some(push)) = (received, push) {
                    let _sent = inner.send_to(&from_platform[..length], push).await;
                }
            }
            () = sleep_until(due.unwrap_or_else(Instant::now)), if due.is_some() => {
                if let Some((_, packet)) = queue.pop_front() {
                    let _sent = outer.send(&packet).await;
                }
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn bit_rate_follows_a_throttled_path_and_its_return() {
    let stream = CameraStream { path: "/pattern".into(), media: Arc::new(pattern()) };
    // A latency as a person sets it for such a path.
    let srt = Some(SrtConfig { latency: Duration::from_secs(1), ..SrtConfig::default() });
    let world = World::with_stream(stream, PlatformConfig { srt, ..PlatformConfig::default() });
    let server = world.platform.srt_server().unwrap();
    let platform = server.trim_start_matches("srt://").split('?').next().unwrap();
    let path = Path::start(platform.parse().unwrap()).await;
    let through = server.replace(platform, &path.address.to_string());
    let mut rules = rules();
    rules.audio.needed = false;
    rules.video.recommended =
        vec![RecommendedRate { lines: 360, fps: 30, from_kbps: CEILING_KBPS, to_kbps: CEILING_KBPS }];
    let adaptation = Adaptation { rules: Some(Arc::new(rules)), ..adaptation(Adapt::All, "320p") };
    let push = PushSpec { adaptation, ..push_to("to-0", &through, KEY) };
    world.engine.apply(RelaySpec { pushes: vec![push], ..world.relay("/pattern", PASSWORD, &[]) });
    world.wait_live().await;
    tokio::time::sleep(Duration::from_secs(6)).await;
    let kbps = |view: &RelayView| view.pushes[0].rendition.unwrap().video_kbps.unwrap();
    let before = world.engine.relay("relay").unwrap();
    assert_eq!(kbps(&before), CEILING_KBPS);
    assert!(before.pushes[0].kbps > u64::from(CEILING_KBPS) * 6 / 10, "{before:?}");
    path.kbps.send_replace(Some(CEILING_KBPS / 2));
    world.wait("a lower rate", 5, |view| kbps(view) < CEILING_KBPS).await;
    tokio::time::sleep(Duration::from_secs(10)).await;
    let settled = world.engine.relay("relay").unwrap();
    tokio::time::sleep(Duration::from_secs(6)).await;
    let later = world.engine.relay("relay").unwrap();
    let dropped = |view: &RelayView| (view.pushes[0].frames_dropped, view.pushes[0].link.unwrap().dropped);
    assert_eq!(dropped(&later), dropped(&settled), "dropped ten seconds after the path was throttled");
    assert_eq!(later.pushes[0].reconnects, 0);
    assert!(kbps(&later) < CEILING_KBPS / 2, "{}", kbps(&later));
    path.kbps.send_replace(None);
    world.wait("the full rate", 60, |view| kbps(view) == CEILING_KBPS).await;
}
