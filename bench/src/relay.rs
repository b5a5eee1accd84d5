//! CPU per delivered byte: the engine against the floor.

use std::process::{Child, Stdio};

use anyhow::Context as _;

use crate::children::{command, count};
use crate::load::Load;

/// Protocol of the pushes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Over {
    /// RTMP, against writes to TCP sockets.
    Rtmp,
    /// SRT, against sends of the same datagrams by plain UDP.
    Srt,
}

#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(mbps: u32, pushes: u32, over: Over, seconds: u64, rounds: usize) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(mbps, pushes * u32::try_from(rounds)?) })?;
    let (server, sink) = match over {
        Over::Rtmp => (load.platform.server(), load.sink.to_string()),
        Over::Srt => (load.srt_servers()?, format!("udp://{}", load.datagram_sink)),
    };
    println!(
        "One pull of {mbps} Mbit/s to {pushes} {} push(es), {rounds} round(s) of {seconds} s side by side",
        if over == Over::Rtmp { "RTMP" } else { "SRT" }
    );
    println!("round   floor ns/byte   engine ns/byte   ratio");
    let (mut ratios, mut least) = (Vec::new(), (f64::MAX, f64::MAX));
    for round in 1..=rounds {
        let camera = load.camera.address().to_string();
        let start = |name, to: &str| -> anyhow::Result<Child> {
            let first = pushes * u32::try_from(round - 1)?;
            let mut command = command(name, &camera, to, pushes, seconds)?;
            Ok(command.args(["--first", &first.to_string()]).stdout(Stdio::piped()).spawn()?)
        };
        let (floor, engine) = (start("child-floor", &sink)?, start("child-engine", &server)?);
        let (floor, engine) = (count(floor)?, count(engine)?);
        let ratio = engine.ns_per_byte() / floor.ns_per_byte();
        println!("{round:>5} {:>15.2} {:>16.2} {ratio:>7.2}", floor.ns_per_byte(), engine.ns_per_byte());
        ratios.push(ratio);
        least = (least.0.min(floor.ns_per_byte()), least.1.min(engine.ns_per_byte()));
    }
    ratios.sort_by(f64::total_cmp);
    let median = ratios.get(ratios.len() / 2).context("there was no round")?;
    // Other load on the machine can only increase the measured cost.
    println!("median ratio {median:.2}; of the least disturbed rounds {:.2}", least.1 / least.0);
    Ok(())
}
