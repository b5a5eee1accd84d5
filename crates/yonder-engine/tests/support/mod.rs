//! A camera, a platform and an engine on loopback.

#![allow(clippy::allow_attributes, reason = "what is used differs from file to file")]
#![allow(dead_code, reason = "each test file uses its own part")]

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;

use yonder_address::{ServerAddress, read_pasted};
use yonder_core::History;
use yonder_core::PushPhase;
use yonder_engine::{
    Adaptation, Engine, FeedSpec, HoldSpec, PushSpec, RelaySpec, RelayView, RtspSpec, SourceSpec,
    TransportChoice,
};
use yonder_media::{VideoCodec, h264, h265};
use yonder_rtsp::CameraUrl;
use yonder_sim::{
    Camera, CameraConfig, CameraFaults, CameraStream, Certificate, LoopMedia, Platform, PlatformConfig,
    Recording, railway_feeds, tunnel_media,
};

pub(crate) const PASSWORD: &str = "up-the-fell";
pub(crate) const KEY: &str = "bramble-summit-4711";

/// Path of the summit's sub stream.
const SUB: &str = "/summit/sub";
/// Frame rate of the feeds that tests wait for frames of.
const FRAMES_PER_SECOND: u64 = 25;

fn summit_sub() -> LoopMedia {
    railway_feeds().iter().find_map(yonder_sim::RailwayFeed::sub).unwrap().1
}

pub(crate) struct World {
    pub(crate) camera: Camera,
    pub(crate) platform: Platform,
    pub(crate) engine: Engine,
}

impl World {
    /// Returns the railway's cameras behind one address, one platform with the channels `one` and `two`.
    pub(crate) fn start() -> Self {
        Self::with(CameraFaults::default(), None)
    }

    /// As [`Self::start`], with faults of the camera, and TLS where it has a certificate.
    pub(crate) fn with(faults: CameraFaults, certificate: Option<Certificate>) -> Self {
        Self::with_both(faults, certificate, PlatformConfig::default())
    }

    /// Returns the same, with another platform; its application, channels and recording are as always.
    pub(crate) fn with_platform(platform: PlatformConfig) -> Self {
        Self::with_both(CameraFaults::default(), None, platform)
    }

    /// Returns a platform that keeps nothing, for long runs.
    pub(crate) fn without_recording(faults: CameraFaults) -> Self {
        Self::with_all(faults, None, PlatformConfig::default())
    }

    /// Adds a stream to the camera.
    pub(crate) fn with_stream(stream: CameraStream, platform: PlatformConfig) -> Self {
        Self::with_streams(vec![stream], CameraFaults::default(), None, platform)
    }

    fn with_both(faults: CameraFaults, certificate: Option<Certificate>, platform: PlatformConfig) -> Self {
        Self::with_all(faults, certificate, PlatformConfig { record: true, ..platform })
    }

    fn with_all(faults: CameraFaults, certificate: Option<Certificate>, platform: PlatformConfig) -> Self {
        Self::with_streams(Vec::new(), faults, certificate, platform)
    }

    fn with_streams(
        mut streams: Vec<CameraStream>,
        faults: CameraFaults,
        certificate: Option<Certificate>,
        platform: PlatformConfig,
    ) -> Self {
        let railway = railway_feeds().into_iter();
        streams.extend(
            railway.map(|feed| CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) }),
        );
        streams.push(CameraStream { path: SUB.into(), media: Arc::new(summit_sub()) });
        streams.push(CameraStream { path: "/tunnel".into(), media: Arc::new(tunnel_media()) });
        let account = Some(("rail".to_owned(), PASSWORD.into()));
        let config = CameraConfig { streams, account, faults, certificate, ..CameraConfig::default() };
        let camera = Camera::start(config).unwrap();
        let channels = vec![("one".to_owned(), KEY.into()), ("two".to_owned(), "second-key-0815".into())];
        let config = PlatformConfig { app: "live".into(), channels, ..platform };
        let platform = Platform::start(config).unwrap();
        Self { camera, platform, engine: Engine::new(tokio::runtime::Handle::current()) }
    }

    /// Lets paused time pass no faster than real time, times the returned factor: slates are rendered, and names
    /// resolved, on threads of their own, which paused time does not wait for.
    pub(crate) fn pace(&self) -> Arc<AtomicU64> {
        let factor = Arc::new(AtomicU64::new(1));
        let milliseconds = Arc::clone(&factor);
        tokio::spawn(async move {
            let rest = || std::thread::sleep(Duration::from_millis(1));
            // Paused time stands still while a blocking task runs.
            while tokio::task::spawn_blocking(rest).await.is_ok() {
                tokio::time::sleep(Duration::from_millis(milliseconds.load(Ordering::Relaxed))).await;
            }
        });
        factor
    }

    pub(crate) fn feed(&self, path: &str, password: &str) -> FeedSpec {
        feed_spec("feed", &self.camera.url(path).replace("://", &format!("://rail:{password}@")))
    }

    /// Returns the media that the camera plays at `path`.
    pub(crate) fn media(&self, path: &str) -> LoopMedia {
        let feed = railway_feeds().into_iter().find(|feed| feed.path == path);
        match feed {
            Some(feed) => feed.main(),
            None if path == SUB => summit_sub(),
            None => tunnel_media(),
        }
    }

    pub(crate) fn push(&self, destination: &str, key: &str) -> PushSpec {
        push_to(destination, &self.platform.server(), key)
    }

    pub(crate) fn relay(&self, path: &str, password: &str, keys: &[&str]) -> RelaySpec {
        let pushes = keys.iter().enumerate().map(|(at, key)| self.push(&format!("to-{at}"), key)).collect();
        RelaySpec {
            name: "relay".into(),
            feed: self.feed(path, password),
            pushes,
            hold: HoldSpec::default(),
            hls: false,
        }
    }

    /// Waits until the relay looks as wished; tells what it looked like when it does not in time.
    pub(crate) async fn wait(
        &self,
        what: &str,
        seconds: u64,
        wished: impl Fn(&RelayView) -> bool,
    ) -> RelayView {
        let mut changes = self.engine.changes();
        let deadline = tokio::time::Instant::now() + Duration::from_secs(seconds);
        loop {
            let view = self.engine.relay("relay").unwrap();
            if wished(&view) {
                return view;
            }
            // Figures change without notice: they are looked at now and then as well.
            let next = tokio::time::Instant::now() + Duration::from_millis(50);
            tokio::select! {
                _ = changes.changed() => {}
                () = tokio::time::sleep_until(next) => {}
            }
            assert!(tokio::time::Instant::now() < deadline, "not {what} within {seconds} s: {view:#?}");
        }
    }

    /// Waits until something holds.
    pub(crate) async fn until(&self, what: &str, seconds: u64, holds: impl Fn() -> bool) {
        let deadline = tokio::time::Instant::now() + Duration::from_secs(seconds);
        while !holds() {
            assert!(tokio::time::Instant::now() < deadline, "not {what} within {seconds} s");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// Waits until every push of a relay has sent so many frames more, at no less than half their rate.
    pub(crate) async fn flow_of(&self, relay: &str, frames: u64) {
        let sent = || -> Vec<u64> {
            self.engine.relay(relay).unwrap().pushes.iter().map(|push| push.frames_sent).collect()
        };
        let before = sent();
        let seconds = 4 + frames * 2 / FRAMES_PER_SECOND;
        self.until("sending", seconds, || {
            sent().iter().zip(&before).all(|(now, before)| *now >= before + frames)
        })
        .await;
    }

    /// As [`Self::flow_of`], for the relay of the world.
    pub(crate) async fn flow(&self, frames: u64) {
        self.flow_of("relay", frames).await;
    }

    /// Asserts that a channel received a run of the media at `path`, without gaps or changes.
    pub(crate) fn assert_exact(&self, channel: &str, path: &str) {
        self.assert_recording_exact(&self.platform.recording(channel), path);
        self.assert_well_ended(channel);
    }

    /// The same for the pictures alone.
    pub(crate) fn assert_pictures_exact(&self, channel: &str, path: &str) {
        let recording = Recording { audio: Vec::new(), ..self.platform.recording(channel) };
        self.assert_recording_exact(&recording, path);
        self.assert_well_ended(channel);
    }

    fn assert_well_ended(&self, channel: &str) {
        let report = self.platform.report(channel).unwrap();
        assert!(report.is_good(), "{report:?}");
        assert!(!report.live, "the broadcast ended in order, and the platform has heard so");
    }

    pub(crate) fn assert_recording_exact(&self, recording: &Recording, path: &str) {
        let media = self.media(path);
        let nals: Vec<_> = media.frames.iter().flat_map(|frame| frame.nals.clone()).collect();
        let coded = |nals: Vec<Bytes>| -> Vec<Bytes> {
            nals.into_iter().filter(|nal| is_coded(media.video.codec(), nal)).collect()
        };
        // A transport stream has delimiters and parameter sets of its own; what is decoded is the camera's.
        assert_is_run_of_loop(&coded(recording.pictures.concat()), &coded(nals));
        if let Some(audio) = media.audio.as_ref().filter(|_| !recording.audio.is_empty()) {
            assert_is_run_of_loop(&recording.audio, &audio.frames);
        }
    }

    /// Returns how many of the received pictures are not the camera's, and where the last run of the camera's begins.
    pub(crate) fn held(&self, recording: &Recording, path: &str) -> (usize, usize) {
        let media = self.media(path);
        let codec = media.video.codec();
        let coded = |nals: &[Bytes]| -> Vec<Bytes> {
            nals.iter().filter(|nal| is_coded(codec, nal)).cloned().collect()
        };
        let own: std::collections::HashSet<Vec<Bytes>> =
            media.frames.iter().map(|frame| coded(&frame.nals)).collect();
        let is_held: Vec<bool> = recording.pictures.iter().map(|nals| !own.contains(&coded(nals))).collect();
        let count = is_held.iter().filter(|held| **held).count();
        (count, is_held.iter().rposition(|held| *held).map_or(0, |at| at + 1))
    }

    pub(crate) async fn wait_live(&self) -> RelayView {
        self.wait("live", 10, |view| view.pushes.iter().all(|push| push.state == PushPhase::Live)).await
    }
}

/// A piece of a picture, or what goes with one; not what every container writes in its own way.
fn is_coded(codec: VideoCodec, nal: &[u8]) -> bool {
    match codec {
        VideoCodec::H264 => {
            !matches!(h264::kind_of(nal), h264::NalKind::Sps | h264::NalKind::Pps | h264::NalKind::Delimiter)
        }
        VideoCodec::H265 => !matches!(
            h265::kind_of(nal),
            h265::NalKind::Vps | h265::NalKind::Sps | h265::NalKind::Pps | h265::NalKind::Delimiter
        ),
    }
}

/// Returns the stream of a pulled feed.
pub(crate) fn rtsp(feed: &mut FeedSpec) -> &mut RtspSpec {
    match &mut feed.source {
        SourceSpec::Rtsp(rtsp) => rtsp,
        SourceSpec::Publisher => panic!("a published feed"),
    }
}

/// Returns a feed at an address, with the transport chosen by itself.
pub(crate) fn feed_spec(name: &str, address: &str) -> FeedSpec {
    let (url, credentials) = CameraUrl::parse(address).unwrap();
    FeedSpec {
        name: name.into(),
        source: SourceSpec::Rtsp(RtspSpec {
            url,
            credentials,
            secret_lost: false,
            transport: TransportChoice::Auto,
            pin: None,
        }),
        history: History::default(),
        measured: None,
    }
}

/// Returns a push to a server under a key.
pub(crate) fn push_to(destination: &str, server: &str, key: &str) -> PushSpec {
    let pasted = read_pasted(Some(server), Some(key)).unwrap();
    PushSpec {
        destination: destination.into(),
        server: pasted.server,
        backup: None,
        failback_delay: Duration::from_secs(120),
        key: pasted.key,
        encryption: None,
        secret_lost: false,
        authority: None,
        uplinks: Vec::new(),
        refusals: Arc::default(),
        history: History::default(),
        adaptation: Adaptation::NONE,
    }
}

/// The same push to another port.
pub(crate) fn set_port(push: &mut PushSpec, port: u16) {
    match &mut push.server {
        ServerAddress::Rtmp(server) => server.port = port,
        ServerAddress::Srt(server) => server.port = port,
    }
}

/// Every piece received must be a run of the camera's loop, without a hole.
fn assert_is_run_of_loop<T: PartialEq + std::fmt::Debug>(received: &[T], looped: &[T]) {
    assert!(received.len() > 20, "only {} pieces came", received.len());
    // The same piece may come more than once in a loop, as silence does.
    let run = |start: usize| {
        received
            .iter()
            .enumerate()
            .take_while(|(at, piece)| **piece == looped[(start + at) % looped.len()])
            .count()
    };
    let longest = (0..looped.len()).map(run).max().unwrap_or(0);
    assert!(longest == received.len(), "the run of the loop ends at piece {longest} of {}", received.len());
}

pub(crate) fn feed_code(view: &RelayView) -> &str {
    view.feed.cause.as_ref().map_or("", |cause| cause.code)
}

pub(crate) fn push_code(view: &RelayView, at: usize) -> &str {
    view.pushes[at].cause.as_ref().map_or("", |cause| cause.code)
}
