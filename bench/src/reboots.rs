//! Time from the return of a camera to the first frame at the platform.

use std::time::{Duration, Instant};

use anyhow::{Context as _, ensure};
use yonder_engine::{Engine, FeedSpec, HoldSpec, RelaySpec, RtspSpec, SourceSpec, TransportChoice};
use yonder_rtsp::CameraUrl;

use crate::load::{Load, PATH, push};

/// Interval of checks for frames.
const LOOK_EVERY: Duration = Duration::from_millis(5);
/// Time after which a camera counts as lost.
const WAIT_TIMEOUT: Duration = Duration::from_secs(20);

/// Switches a camera off and on `times` times, for half a second to eight, and prints the time to the first frame.
#[expect(clippy::print_stdout, reason = "a table is what this program is for")]
pub(crate) fn run(times: u32) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let mut took = runtime.block_on(measure(times))?;
    took.sort_unstable();
    let at = |percent: usize| took.get((took.len() - 1) * percent / 100).copied().unwrap_or_default();
    println!("camera back → first picture at the platform, {times} reboots");
    println!("  p50 {:>5} ms", at(50).as_millis());
    println!("  p95 {:>5} ms", at(95).as_millis());
    println!("  max {:>5} ms", at(100).as_millis());
    Ok(())
}

async fn measure(times: u32) -> anyhow::Result<Vec<Duration>> {
    let load = Load::start(4, 1)?;
    let engine = Engine::new(tokio::runtime::Handle::current());
    let (url, credentials) = CameraUrl::parse(&load.camera.url(PATH))?;
    let feed = FeedSpec {
        name: "load".into(),
        source: SourceSpec::Rtsp(RtspSpec {
            url,
            credentials,
            secret_lost: false,
            transport: TransportChoice::Auto,
            pin: None,
        }),
        history: Default::default(),
        measured: None,
    };
    let pushes = vec![push(0, &load.platform.server())?];
    engine.apply(RelaySpec { name: "load".into(), feed, pushes, hold: HoldSpec::default(), hls: false });
    let pictures = || load.platform.report("channel-0").map_or(0, |report| report.pictures);
    until(|| pictures() > 0).await.context("no picture came at all")?;
    let mut took = Vec::new();
    for round in 0..times {
        load.camera.switch_off().await;
        // Half a second to eight, to cover each stage of the backoff.
        tokio::time::sleep(Duration::from_millis(500 + u64::from(round * 37 % 100) * 75)).await;
        let before = pictures();
        load.camera.switch_on()?;
        let back = Instant::now();
        until(|| pictures() > before).await.with_context(|| format!("round {round}"))?;
        took.push(back.elapsed());
    }
    let broadcasts = load.platform.report("channel-0").map_or(0, |report| report.broadcasts);
    ensure!(broadcasts == 1, "the broadcast did not outlive the reboots: {broadcasts}");
    Ok(took)
}

async fn until(holds: impl Fn() -> bool) -> anyhow::Result<()> {
    let begun = Instant::now();
    while !holds() {
        ensure!(begun.elapsed() < WAIT_TIMEOUT, "no picture within {} s", WAIT_TIMEOUT.as_secs());
        tokio::time::sleep(LOOK_EVERY).await;
    }
    Ok(())
}
