//! Capacity: memory above an idle service, and CPU as relays per core.

use std::process::{Child, Stdio};

use anyhow::Context as _;

use crate::children::{command, count};
use crate::load::{Load, PATH, key};
use crate::service::Service;

/// Measures the memory of a relay above an idle service, with relays of 4 Mbit/s and three pushes each.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn memory(relays: u32, seconds: u64) -> anyhow::Result<()> {
    const MBPS: u32 = 4;
    const PUSHES: u32 = 3;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(MBPS, relays * PUSHES) })?;
    let service = Service::start()?;
    std::thread::sleep(std::time::Duration::from_secs(2));
    let idle = service.sample()?.resident_kb;
    println!("{relays} relays of {MBPS} Mbit/s with {PUSHES} pushes each");
    println!("  idle            {idle:>8} kB");
    register(&service, &load, relays, PUSHES)?;
    for part in 1..=4 {
        std::thread::sleep(std::time::Duration::from_secs(seconds) / 4);
        let now = service.sample()?.resident_kb;
        let each = now.saturating_sub(idle) / u64::from(relays);
        let (live, pushes) = service.live()?;
        println!(
            "  after {:>4} s    {now:>8} kB   {each:>6} kB a relay   {live}/{pushes} live",
            seconds * part / 4
        );
    }
    Ok(())
}

/// Registers relays by command, each with pushes to channels of its own.
pub(crate) fn register(service: &Service, load: &Load, relays: u32, pushes: u32) -> anyhow::Result<()> {
    let (url, server) = (load.camera.url(PATH), load.platform.server());
    for relay in 0..relays {
        let name = format!("Line {relay:03}");
        service.must(&["feed", "add", &name, "--url", &url, "--transport", "tcp"], "")?;
        let mut add: Vec<String> = ["relay", "add", &name, "--feed", &name].map(str::to_owned).to_vec();
        for push in 0..pushes {
            let at = relay * pushes + push;
            let to = format!("Channel {at:03}");
            service.must(&["destination", "add", &to, "--server", &server, "--key-stdin"], &key(at))?;
            add.extend(["--to".to_owned(), to]);
        }
        service.must(&add.iter().map(String::as_str).collect::<Vec<_>>(), "")?;
        service.must(&["relay", "start", &name, "--force"], "")?;
    }
    Ok(())
}

/// Measures relays of 2 Mbit/s with two pushes each that one core carries, relative to the floor.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn cores(relays: u32, seconds: u64, rounds: usize) -> anyhow::Result<()> {
    const MBPS: u32 = 2;
    const PUSHES: u32 = 2;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(MBPS, relays * PUSHES) })?;
    println!("{relays} relays of {MBPS} Mbit/s with {PUSHES} pushes each, {rounds} round(s) of {seconds} s");
    println!("round   floor, relays a core   engine, relays a core   share");
    let mut shares = Vec::new();
    for round in 1..=rounds {
        let camera = load.camera.address().to_string();
        // In sequence, since there are too few cores for both.
        let floor = carried(
            child("child-floor", &camera, &load.sink.to_string(), relays, PUSHES, seconds)?,
            relays,
            seconds,
        )?;
        let engine = carried(
            child("child-engine", &camera, &load.platform.server(), relays, PUSHES, seconds)?,
            relays,
            seconds,
        )?;
        let share = engine / floor;
        println!("{round:>5} {floor:>22.0} {engine:>23.0} {share:>7.2}");
        shares.push(share);
    }
    shares.sort_by(f64::total_cmp);
    println!("median share {:.2}", shares.get(shares.len() / 2).context("there was no round")?);
    Ok(())
}

fn child(
    name: &str,
    camera: &str,
    to: &str,
    relays: u32,
    pushes: u32,
    seconds: u64,
) -> anyhow::Result<Child> {
    let mut command = command(name, camera, to, pushes, seconds)?;
    Ok(command.args(["--relays", &relays.to_string(), "--one-core"]).stdout(Stdio::piped()).spawn()?)
}

/// Returns the number of relays that a whole core would carry.
#[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
fn carried(child: Child, relays: u32, seconds: u64) -> anyhow::Result<f64> {
    let share = count(child)?.cpu_us as f64 / (seconds as f64 * 1e6);
    Ok(f64::from(relays) / share)
}
