//! A camera, a platform and an engine on loopback.

#![allow(clippy::allow_attributes, reason = "what is used differs from file to file")]
#![allow(dead_code, reason = "each test file uses its own part")]

use std::sync::Arc;
use std::time::Duration;

use yonder_engine::{Engine, FeedSpec, PushSpec, RelaySpec, RelayView, TransportChoice};
use yonder_lab::{
    Camera, CameraConfig, CameraStream, Certificate, LoopMedia, Manners, Platform, PlatformConfig,
    railway_feeds, tunnel_media,
};
use yonder_rtmp::{ServerAddress, StreamKey};
use yonder_rtsp::CameraUrl;

pub(crate) const PASSWORD: &str = "up-the-fell";
pub(crate) const KEY: &str = "bramble-summit-4711";

/// Path of the summit's sub stream.
const SUB: &str = "/summit/sub";

fn summit_sub() -> LoopMedia {
    railway_feeds().iter().find_map(yonder_lab::RailwayFeed::sub).unwrap().1
}

pub(crate) struct World {
    pub(crate) camera: Camera,
    pub(crate) platform: Platform,
    pub(crate) engine: Engine,
}

impl World {
    /// The railway's cameras behind one address, one platform with the channels `one` and `two`.
    pub(crate) fn start() -> Self {
        Self::with(Manners::default(), None)
    }

    /// The same, with a camera that behaves as told, and speaks TLS where it has a certificate.
    pub(crate) fn with(manners: Manners, certificate: Option<Certificate>) -> Self {
        let mut streams: Vec<CameraStream> = railway_feeds()
            .into_iter()
            .map(|feed| CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) })
            .collect();
        streams.push(CameraStream { path: SUB.into(), media: Arc::new(summit_sub()) });
        streams.push(CameraStream { path: "/tunnel".into(), media: Arc::new(tunnel_media()) });
        let account = Some(("rail".to_owned(), PASSWORD.into()));
        let config = CameraConfig { streams, account, manners, certificate, ..CameraConfig::default() };
        let camera = Camera::start(config).unwrap();
        let channels = vec![("one".to_owned(), KEY.into()), ("two".to_owned(), "second-key-0815".into())];
        let platform =
            Platform::start(PlatformConfig { app: "live".into(), channels, port: 0, record: true }).unwrap();
        Self { camera, platform, engine: Engine::new(tokio::runtime::Handle::current()) }
    }

    pub(crate) fn feed(&self, path: &str, password: &str) -> FeedSpec {
        let address = self.camera.url(path).replace("://", &format!("://rail:{password}@"));
        let (url, credentials) = CameraUrl::parse(&address).unwrap();
        FeedSpec { name: "feed".into(), url, credentials, transport: TransportChoice::Auto, pin: None }
    }

    /// What the camera plays at `path`.
    pub(crate) fn media(&self, path: &str) -> LoopMedia {
        let feed = railway_feeds().into_iter().find(|feed| feed.path == path);
        match feed {
            Some(feed) => feed.main(),
            None if path == SUB => summit_sub(),
            None => tunnel_media(),
        }
    }

    pub(crate) fn push(&self, destination: &str, key: &str) -> PushSpec {
        let (server, _) = ServerAddress::parse(&self.platform.server()).unwrap();
        let (key, _) = StreamKey::parse(key, &server).unwrap();
        PushSpec { destination: destination.into(), server, key }
    }

    pub(crate) fn relay(&self, path: &str, password: &str, keys: &[&str]) -> RelaySpec {
        let pushes = keys.iter().enumerate().map(|(at, key)| self.push(&format!("to-{at}"), key)).collect();
        RelaySpec { name: "relay".into(), feed: self.feed(path, password), pushes }
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

    /// What a channel received must be a run of what the camera plays at `path`, without hole or change.
    pub(crate) fn assert_exact(&self, channel: &str, path: &str) {
        let (media, recording) = (self.media(path), self.platform.recording(channel));
        let nals: Vec<_> = media.frames.iter().flat_map(|frame| frame.nals.clone()).collect();
        assert_is_run_of_loop(&recording.pictures.concat(), &nals);
        if let Some(sound) = &media.sound {
            assert_is_run_of_loop(&recording.sound, &sound.frames);
        }
        let report = self.platform.report(channel).unwrap();
        assert!(report.is_good(), "{report:?}");
        assert!(!report.live, "the broadcast ended in order, and the platform has heard so");
    }

    pub(crate) async fn wait_live(&self) -> RelayView {
        self.wait("live", 10, |view| view.pushes.iter().all(|push| push.state == "live")).await
    }
}

/// Every piece received must be a run of the camera's loop, without a hole.
fn assert_is_run_of_loop<T: PartialEq + std::fmt::Debug>(received: &[T], looped: &[T]) {
    assert!(received.len() > 20, "only {} pieces came", received.len());
    let fits = |start: &usize| {
        received.iter().enumerate().all(|(at, piece)| *piece == looped[(start + at) % looped.len()])
    };
    // The same piece may come more than once in a loop, as silence does.
    assert!((0..looped.len()).any(|start| fits(&start)), "what came is no run of the loop");
}

pub(crate) fn feed_code(view: &RelayView) -> &str {
    view.feed.cause.as_ref().map_or("", |cause| cause.code)
}

pub(crate) fn push_code(view: &RelayView, at: usize) -> &str {
    view.pushes[at].cause.as_ref().map_or("", |cause| cause.code)
}
