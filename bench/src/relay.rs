//! CPU per delivered byte: the engine against the floor.

use std::process::{Command, Stdio};

use anyhow::Context as _;

use crate::children::Count;
use crate::load::Load;

#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(mbps: u32, pushes: u32, seconds: u64, rounds: usize) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(mbps, pushes) })?;
    println!(
        "One pull of {mbps} Mbit/s to {pushes} RTMP push(es), {rounds} round(s) of {seconds} s side by side"
    );
    println!("round   floor ns/byte   engine ns/byte   ratio");
    let mut ratios = Vec::new();
    for round in 1..=rounds {
        let camera = load.camera.address().to_string();
        let floor = child("child-floor", &camera, &load.sink.to_string(), pushes, seconds)?;
        let engine = child("child-engine", &camera, &load.platform.server(), pushes, seconds)?;
        let (floor, engine) = (count(floor)?, count(engine)?);
        let ratio = engine.ns_per_byte() / floor.ns_per_byte();
        println!("{round:>5} {:>15.2} {:>16.2} {ratio:>7.2}", floor.ns_per_byte(), engine.ns_per_byte());
        ratios.push(ratio);
    }
    ratios.sort_by(f64::total_cmp);
    let median = ratios.get(ratios.len() / 2).context("there was no round")?;
    println!("median ratio {median:.2}");
    Ok(())
}

fn child(
    name: &str,
    camera: &str,
    to: &str,
    pushes: u32,
    seconds: u64,
) -> anyhow::Result<std::process::Child> {
    Ok(Command::new(std::env::current_exe()?)
        .args([name, "--camera", camera, "--to", to])
        .args(["--pushes", &pushes.to_string(), "--seconds", &seconds.to_string()])
        .stdout(Stdio::piped())
        .spawn()?)
}

fn count(child: std::process::Child) -> anyhow::Result<Count> {
    let output = child.wait_with_output()?;
    anyhow::ensure!(output.status.success(), "a measured program failed");
    Ok(serde_json::from_slice(&output.stdout)?)
}
