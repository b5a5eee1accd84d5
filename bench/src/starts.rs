//! Time until all relays are live after a start.

use std::time::{Duration, Instant};

use anyhow::ensure;

use crate::capacity::register;
use crate::load::Load;
use crate::service::Service;

/// Timeout of a start.
const WAIT_TIMEOUT: Duration = Duration::from_secs(60);

/// Measures the time from the start of the service to all relays live, after a power failure.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(relays: u32, pushes: u32, times: u32) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(1, relays * pushes) })?;
    let mut service = Service::start()?;
    register(&service, &load, relays, pushes)?;
    wait_live(&service)?;
    println!("Service start → {relays} relays live");
    let mut took = Vec::new();
    for round in 1..=times {
        service.kill()?;
        // The platform must have noticed; otherwise the keys are still busy.
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

pub(crate) fn wait_live(service: &Service) -> anyhow::Result<()> {
    let begun = Instant::now();
    loop {
        let (live, pushes) = service.live()?;
        if live == pushes && pushes > 0 {
            return Ok(());
        }
        ensure!(begun.elapsed() < WAIT_TIMEOUT, "{live} of {pushes} live: {}", service.log());
        std::thread::sleep(Duration::from_millis(20));
    }
}
