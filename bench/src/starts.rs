//! How soon everything runs after a start, and what a stalled push costs its neighbours.

use std::time::{Duration, Instant};

use anyhow::ensure;
use yonder_engine::{Engine, FeedSpec, HoldSpec, RelaySpec, TransportChoice};
use yonder_rtsp::CameraUrl;

use crate::capacity::register;
use crate::load::{Load, PATH, push};
use crate::service::Service;

/// Nothing takes longer.
const PATIENCE: Duration = Duration::from_secs(60);

/// From the start of the service to all of its relays live, after a power cut.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(relays: u32, times: u32) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(1, relays) })?;
    let mut service = Service::start()?;
    register(&service, &load, relays, 1)?;
    wait_live(&service)?;
    println!("Service start → {relays} relays live");
    let mut took = Vec::new();
    for round in 1..=times {
        service.kill()?;
        // The platform must have noticed; it would say that the keys are in use.
        std::thread::sleep(Duration::from_secs(1));
        let begun = Instant::now();
        let ready = service.start_again()?;
        wait_live(&service)?;
        let live = begun.elapsed();
        println!(
            "{round:>5}   ready after {:>5} ms   all live after {:>5} ms",
            ready.as_millis(),
            live.as_millis()
        );
        took.push(live);
    }
    took.sort_unstable();
    println!("median {} ms", took.get(took.len() / 2).copied().unwrap_or_default().as_millis());
    Ok(())
}

fn wait_live(service: &Service) -> anyhow::Result<()> {
    let begun = Instant::now();
    loop {
        let (live, pushes) = service.live()?;
        if live == pushes && pushes > 0 {
            return Ok(());
        }
        ensure!(begun.elapsed() < PATIENCE, "{live} of {pushes} live: {}", service.log());
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Eight pushes of one feed, one of which goes to a platform that reads nothing: what the other seven lose.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn stalled(seconds: u64) -> anyhow::Result<()> {
    const PUSHES: u32 = 8;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    runtime.block_on(async {
        let load = Load::start(4, PUSHES - 1)?;
        let stuck = Load::start(4, PUSHES)?;
        let engine = Engine::new(tokio::runtime::Handle::current());
        let (url, credentials) = CameraUrl::parse(&load.camera.url(PATH))?;
        let feed =
            FeedSpec { name: "load".into(), url, credentials, transport: TransportChoice::Tcp, pin: None };
        let mut pushes = (0..PUSHES - 1)
            .map(|at| push(at, &load.platform.server()))
            .collect::<anyhow::Result<Vec<_>>>()?;
        pushes.push(push(PUSHES - 1, &stuck.platform.server())?);
        engine.apply(RelaySpec { name: "load".into(), feed, pushes, hold: HoldSpec::default() });
        tokio::time::sleep(Duration::from_secs(3)).await;
        stuck.platform.change(|manners| manners.frozen = true);
        tokio::time::sleep(Duration::from_secs(seconds)).await;
        let view = engine.relay("load");
        let all = view.map(|view| view.pushes).unwrap_or_default();
        let lost: u64 = all.iter().take(7).map(|push| push.frames_dropped).sum();
        let live = all.iter().take(7).filter(|push| push.state == "live").count();
        let state = all.last().map_or("gone", |push| push.state);
        println!(
            "Eight pushes, one stalled for {seconds} s (now {state}): {live} of 7 live, {lost} pictures lost"
        );
        ensure!(lost == 0 && live == 7, "neighbours were hurt: {all:?}");
        Ok(())
    })
}
