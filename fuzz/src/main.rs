//! Runs millions of mutated inputs, and prints their number and rate. A failing input can be reproduced by the printed
//! seed; a slow input counts as a failure.

use std::time::{Duration, Instant};

use anyhow::ensure;
use clap::Parser;
use rustix::time::{ClockId, clock_gettime};
use yonder_fuzz::{ENTRIES, Mutator, seeds};

/// Maximum CPU time of one input. Wall time would include other programs.
const LONGEST: Duration = Duration::from_millis(500);

/// Mutated inputs for every parser of received data.
#[derive(Debug, Parser)]
struct Arguments {
    /// Total number of inputs, distributed over the entry points.
    #[arg(long, default_value_t = 1_000_000)]
    inputs: u64,
    /// Entry points to run; all by default.
    #[arg(long = "only", value_name = "ENTRY")]
    only: Vec<String>,
    /// Seed of the run.
    #[arg(long, default_value_t = 1)]
    seed: u64,
}

#[expect(clippy::print_stdout, reason = "a table is what this program is for")]
fn main() -> anyhow::Result<()> {
    let Arguments { inputs, only, seed } = Arguments::parse();
    let chosen: Vec<_> = ENTRIES
        .iter()
        .filter(|entry| only.is_empty() || only.iter().any(|name| name == entry.name))
        .collect();
    ensure!(!chosen.is_empty(), "there is no such entry point");
    let each = inputs.div_ceil(u64::try_from(chosen.len())?);
    println!("{:<18} {:>12} {:>10} {:>12} {:>10}", "ENTRY", "INPUTS", "SECONDS", "INPUTS/S", "LONGEST");
    for entry in chosen {
        let seeds = seeds(entry.name);
        let mut mutator = Mutator::new(seed);
        let began = Instant::now();
        let mut longest = Duration::ZERO;
        for number in 0..each {
            let input = mutator.input(&seeds);
            let before = processor_time()?;
            (entry.run)(&input);
            let took = processor_time()?.saturating_sub(before);
            longest = longest.max(took);
            ensure!(
                took < LONGEST,
                "{} took {took:?} with input {number} of seed {seed}: {input:02x?}",
                entry.name
            );
        }
        let seconds = began.elapsed().as_secs_f64();
        let rate = f64::from(u32::try_from(each)?) / seconds;
        println!("{:<18} {each:>12} {seconds:>10.1} {rate:>12.0} {:>7} µs", entry.name, longest.as_micros());
    }
    let peak = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    if let Some(peak) = peak.lines().find(|line| line.starts_with("VmHWM")) {
        println!("memory at most: {}", peak.trim_start_matches("VmHWM:").trim());
    }
    Ok(())
}

/// Returns the CPU time of this thread.
fn processor_time() -> anyhow::Result<Duration> {
    Ok(clock_gettime(ClockId::ThreadCPUTime).try_into()?)
}
