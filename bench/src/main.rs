//! Figures, measured against the floor: the least that a machine must do to carry the same bytes.
//!
//! Each figure is a ratio of two programs that run side by side, on the same camera, in the same minutes.

mod children;
mod load;
mod overhead;
mod reboots;
mod relay;
mod service;
mod soak;

use clap::{Parser, Subcommand};

/// Measures the service against the floor.
#[derive(Debug, Parser)]
struct Arguments {
    #[command(subcommand)]
    figure: Figure,
}

#[derive(Debug, Subcommand)]
enum Figure {
    /// CPU per delivered byte, one pull to N pushes over RTMP, against reading and writing the same bytes.
    Relay {
        /// Rate of the camera in megabits per second.
        #[arg(long, default_value_t = 8)]
        mbps: u32,
        /// Pushes.
        #[arg(long, default_value_t = 1)]
        pushes: u32,
        /// Seconds of each round, after two to settle.
        #[arg(long, default_value_t = 15)]
        seconds: u64,
        /// Rounds; the median counts.
        #[arg(long, default_value_t = 3)]
        rounds: usize,
    },
    /// How soon a picture is at the platform again once a camera is back.
    Reboots {
        /// Reboots.
        #[arg(long, default_value_t = 50)]
        times: u32,
    },
    /// Hours of faults, drawn at random: memory, files and tasks stay as they are.
    Soak(soak::Soak),
    /// What each protocol adds to the media it carries.
    Overhead,
    /// The measured half of `relay`: the engine alone.
    #[command(hide = true)]
    ChildEngine(children::Job),
    /// The other half of `relay`: a bare reader and writer.
    #[command(hide = true)]
    ChildFloor(children::Job),
}

fn main() -> anyhow::Result<()> {
    match Arguments::parse().figure {
        Figure::Relay { mbps, pushes, seconds, rounds } => relay::run(mbps, pushes, seconds, rounds),
        Figure::Reboots { times } => reboots::run(times),
        Figure::Soak(soak) => soak::run(&soak),
        Figure::Overhead => overhead::run(),
        Figure::ChildEngine(job) => children::engine(&job),
        Figure::ChildFloor(job) => children::floor(&job),
    }
}
