//! The whole service under load: CPU per delivered byte relative to the floor, and request times.

use std::process::Stdio;
use std::time::{Duration, Instant};

use anyhow::Context as _;

use crate::capacity::register;
use crate::children::{Count, command, count};
use crate::load::Load;
use crate::service::Service;
use crate::starts::wait_live;

/// Time for connections, first keyframes and first allocations, which are not part of the figure.
const SETTLE: Duration = Duration::from_secs(12);

/// Size of the load.
#[derive(Debug, Clone, Copy, clap::Args)]
pub(crate) struct Whole {
    /// Feeds, each with one relay.
    #[arg(long, default_value_t = 10)]
    relays: u32,
    /// Pushes of each relay.
    #[arg(long, default_value_t = 4)]
    pushes: u32,
    /// Video bit rate of each camera, in kilobits per second.
    #[arg(long, default_value_t = 1_600)]
    kbps: u32,
    /// Seconds of each round.
    #[arg(long, default_value_t = 20)]
    seconds: u64,
    /// Rounds; the median counts.
    #[arg(long, default_value_t = 3)]
    rounds: usize,
}

/// Runs the service and the floor in turn, with the same camera.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(load: Whole) -> anyhow::Result<()> {
    let Whole { relays, pushes, kbps, seconds, rounds } = load;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::with_audio(kbps, relays * pushes) })?;
    let mut service = Service::start()?;
    register(&service, &load, relays, pushes)?;
    service.kill()?;
    println!("whole service, {relays} relays of {kbps} kbit/s with AAC, {pushes} pushes each");
    println!("round   floor, ns/byte   service, ns/byte   ratio   cores   all live   GET /relays   resident");
    let mut ratios = Vec::new();
    for round in 1..=rounds {
        let floor = floor(&load, relays, pushes, seconds)?;
        let begun = Instant::now();
        service.start_again()?;
        wait_live(&service)?;
        let live_after = begun.elapsed();
        std::thread::sleep(SETTLE);
        let (cpu_before, bytes_before) = (service.cpu_us()?, service.sent_bytes()?);
        std::thread::sleep(Duration::from_secs(seconds));
        let measured =
            Count { cpu_us: service.cpu_us()? - cpu_before, bytes: service.sent_bytes()? - bytes_before };
        let request = service.relays_request_time()?;
        let resident_mb = service.sample()?.resident_kb / 1_024;
        service.kill()?;
        let ratio = measured.ns_per_byte() / floor.ns_per_byte();
        println!(
            "{round:>5} {:>16.2} {:>18.2} {ratio:>7.2} {:>7.3} {:>7} ms {:>10} ms {resident_mb:>7} MB",
            floor.ns_per_byte(),
            measured.ns_per_byte(),
            cores(&measured, seconds),
            live_after.as_millis(),
            request.as_millis()
        );
        ratios.push(ratio);
        // The platform must have noticed the lost connections.
        std::thread::sleep(Duration::from_secs(1));
    }
    ratios.sort_by(f64::total_cmp);
    println!("median ratio {:.2}", ratios.get(ratios.len() / 2).context("there was no round")?);
    Ok(())
}

fn floor(load: &Load, relays: u32, pushes: u32, seconds: u64) -> anyhow::Result<Count> {
    let camera = load.camera.address().to_string();
    let mut command = command("child-floor", &camera, &load.sink.to_string(), pushes, seconds)?;
    command.args(["--audio", "--relays", &relays.to_string()]).stdout(Stdio::piped());
    count(command.spawn()?)
}

/// Returns the share of one core.
#[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
fn cores(count: &Count, seconds: u64) -> f64 {
    count.cpu_us as f64 / (seconds as f64 * 1e6)
}
