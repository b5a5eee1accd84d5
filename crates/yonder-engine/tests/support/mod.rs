//! A camera, a platform and an engine on loopback.

#![allow(clippy::allow_attributes, reason = "what is used differs from file to file")]
#![allow(dead_code, reason = "each test file uses its own part")]

use std::sync::Arc;
use std::time::Duration;

use yonder_engine::{Engine, FeedSpec, PushSpec, RelaySpec, RelayView};
use yonder_lab::{Camera, CameraConfig, CameraStream, Platform, PlatformConfig, railway_feeds};
use yonder_rtmp::{ServerAddress, StreamKey};
use yonder_rtsp::CameraUrl;

pub(crate) const PASSWORD: &str = "up-the-fell";
pub(crate) const KEY: &str = "bramble-summit-4711";

pub(crate) struct World {
    pub(crate) camera: Camera,
    pub(crate) platform: Platform,
    pub(crate) engine: Engine,
}

impl World {
    /// The railway's cameras behind one address, one platform with the channels `one` and `two`.
    pub(crate) fn start() -> Self {
        let streams = railway_feeds()
            .into_iter()
            .map(|feed| CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) })
            .collect();
        let account = Some(("rail".to_owned(), PASSWORD.into()));
        let camera = Camera::start(CameraConfig { streams, account, port: 0 }).unwrap();
        let channels = vec![("one".to_owned(), KEY.into()), ("two".to_owned(), "second-key-0815".into())];
        let platform =
            Platform::start(PlatformConfig { app: "live".into(), channels, port: 0, record: true }).unwrap();
        Self { camera, platform, engine: Engine::new(tokio::runtime::Handle::current()) }
    }

    pub(crate) fn feed(&self, path: &str, password: &str) -> FeedSpec {
        let address = format!("rtsp://rail:{password}@{}{path}", self.camera.address());
        let (url, credentials) = CameraUrl::parse(&address).unwrap();
        FeedSpec { name: "feed".into(), url, credentials }
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

    pub(crate) async fn wait_live(&self) -> RelayView {
        self.wait("live", 10, |view| view.pushes.iter().all(|push| push.state == "live")).await
    }
}

pub(crate) fn feed_code(view: &RelayView) -> &str {
    view.feed.cause.as_ref().map_or("", |cause| cause.code)
}

pub(crate) fn push_code(view: &RelayView, at: usize) -> &str {
    view.pushes[at].cause.as_ref().map_or("", |cause| cause.code)
}
