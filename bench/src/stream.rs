//! HLS stream of a signpost over minutes: held against a checker, with a reboot of the camera and a hold.

use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use anyhow::{Context as _, ensure};
use bytes::Bytes;
use serde_json::Value;
use yonder_sim::{Camera, CameraConfig, CameraStream, HlsChecker, Wanted, railway_feeds};

use crate::service::Service;

/// Interval at which the playlist is requested.
const POLL: Duration = Duration::from_millis(250);
/// Duration of the reboot, and of the hold.
const BREAK: Duration = Duration::from_secs(15);

/// Watches a stream for some seconds; prints what is wrong with it, and how late its segments are.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(seconds: u64) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let feed = railway_feeds().into_iter().next().context("the railway has feeds")?;
    let stream = CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) };
    let config = CameraConfig { streams: vec![stream], ..CameraConfig::default() };
    let camera = runtime.block_on(async { Camera::start(config) })?;
    let service = Service::start_with(&["--public", "127.0.0.1:0"])?;
    service.must(&["feed", "add", "Summit", "--url", &camera.url(feed.path)], "")?;
    // The stream does not depend on the platform, which does not answer.
    let add = ["destination", "add", "Bramble", "--server", "rtmp://127.0.0.1:9/live", "--key-stdin"];
    service.must(&add, "a-key-of-no-use")?;
    service.must(&["relay", "add", "Line", "--feed", "Summit", "--to", "Bramble"], "")?;
    service.must(&["relay", "edit", "Line", "--hold-after", "1s"], "")?;
    service.must(&["signpost", "add", "summit", "--relay", "Line"], "")?;
    service.must(&["relay", "start", "Line", "--force"], "")?;

    let mut viewer = Viewer { base: base(&service)?, checker: HlsChecker::default(), max_age_s: 0.0 };
    let begun = Instant::now();
    let third = Duration::from_secs(seconds) / 3;
    viewer.watch_until(begun + third)?;
    runtime.block_on(camera.switch_off());
    viewer.watch_until(begun + third + BREAK)?;
    {
        let _inside = runtime.enter();
        camera.switch_on()?;
    }
    viewer.watch_until(begun + third * 2)?;
    service.must(&["relay", "hold", "Line"], "")?;
    viewer.watch_until(begun + third * 2 + BREAK)?;
    service.must(&["relay", "resume", "Line"], "")?;
    viewer.watch_until(begun + third * 3)?;

    let Viewer { checker, max_age_s, .. } = viewer;
    println!("{seconds} s with a reboot of the camera and a hold of {} s each", BREAK.as_secs());
    println!("  segments         {:.0} s, {} discontinuities", checker.seconds(), checker.discontinuities());
    println!("  age at the end   at most {max_age_s:.2} s when a segment is listed");
    println!("  faults           {}", checker.faults().len());
    for fault in checker.faults() {
        println!("    {fault}");
    }
    ensure!(checker.faults().is_empty(), "the stream has faults");
    Ok(())
}

fn base(service: &Service) -> anyhow::Result<String> {
    let facts: Value = serde_json::from_str(&std::fs::read_to_string(service.home().join("service.json"))?)?;
    Ok(format!("{}/w/summit/", facts["public"].as_str().context("no public address")?))
}

struct Viewer {
    base: String,
    checker: HlsChecker,
    /// Largest age of the end of a segment when it was first listed, in seconds.
    max_age_s: f64,
}

impl Viewer {
    fn watch_until(&mut self, end: Instant) -> anyhow::Result<()> {
        while Instant::now() < end {
            self.fetch()?;
            std::thread::sleep(POLL);
        }
        Ok(())
    }

    fn fetch(&mut self) -> anyhow::Result<()> {
        // There is no stream before the second segment.
        let Ok(mut master) = ureq::get(format!("{}live.m3u8", self.base)).call() else { return Ok(()) };
        let master = master.body_mut().read_to_string()?;
        let media = master.lines().last().context("the master playlist is empty")?;
        let playlist = ureq::get(format!("{}{media}", self.base)).call()?.body_mut().read_to_string()?;
        let is_first = self.checker.seconds() == 0.0;
        for wanted in self.checker.playlist(&playlist) {
            match wanted {
                Wanted::Init(uri) => {
                    let data = self.get(&uri)?;
                    self.checker.init(&uri, &data);
                }
                Wanted::Segment(number, uri) => {
                    let data = self.get(&uri)?;
                    self.checker.segment(number, &data);
                    if let Some(end_ms) = self.checker.end_ms(number).filter(|_| !is_first) {
                        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH)?.as_secs_f64();
                        self.max_age_s = self.max_age_s.max(now - end_ms / 1_000.0);
                    }
                }
            }
        }
        Ok(())
    }

    fn get(&self, uri: &str) -> anyhow::Result<Bytes> {
        let mut response = ureq::get(format!("{}{uri}", self.base)).call()?;
        Ok(response.body_mut().with_config().limit(64 << 20).read_to_vec()?.into())
    }
}
