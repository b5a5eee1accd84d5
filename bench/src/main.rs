//! Benchmarks relative to a floor: the minimum that a machine must do to carry the same bytes.
//!
//! Each figure is a ratio of two programs that run concurrently, with the same camera.

mod capacity;
mod changes;
mod children;
mod delay;
mod ingest;
mod load;
mod overhead;
mod reboots;
mod relay;
mod rendition;
mod service;
mod soak;
mod stalled;
mod starts;
mod stream;
mod viewers;
mod whole;

use clap::{Parser, Subcommand};

/// Measures the service relative to the floor.
#[derive(Debug, Parser)]
struct Arguments {
    #[command(subcommand)]
    figure: Figure,
}

#[derive(Debug, Subcommand)]
enum Figure {
    /// CPU per delivered byte, one pull to N pushes, against reading and writing the same bytes.
    Relay {
        /// Rate of the camera in megabits per second.
        #[arg(long, default_value_t = 8)]
        mbps: u32,
        /// Pushes.
        #[arg(long, default_value_t = 1)]
        pushes: u32,
        /// Protocol.
        #[arg(long, value_enum, default_value_t = relay::Over::Rtmp)]
        over: relay::Over,
        /// Seconds of each round, after twelve to settle.
        #[arg(long, default_value_t = 15)]
        seconds: u64,
        /// Rounds; the median counts.
        #[arg(long, default_value_t = 3)]
        rounds: usize,
    },
    /// Delay that a relay adds to a frame, compared with a bare forwarder.
    Delay {
        /// Relays.
        #[arg(long, default_value_t = 100)]
        relays: u32,
        /// Rate of each camera in megabits per second.
        #[arg(long, default_value_t = 1)]
        mbps: u32,
        /// Seconds to count.
        #[arg(long, default_value_t = 10)]
        seconds: u64,
    },
    /// Delay of feeds on the media thread of a feed with large keyframes and many pushes.
    Neighbour {
        /// Feeds to measure.
        #[arg(long, default_value_t = 20)]
        feeds: u32,
        /// Rate of each in megabits per second.
        #[arg(long, default_value_t = 1)]
        mbps: u32,
        /// Pushes of the feed beside them.
        #[arg(long, default_value_t = 64)]
        pushes: u32,
        /// Size of its keyframes in kilobytes.
        #[arg(long, default_value_t = 400)]
        keyframe_kb: u32,
        /// Seconds to count.
        #[arg(long, default_value_t = 20)]
        seconds: u64,
    },
    /// Memory of a relay above an idle service.
    Memory {
        /// Relays.
        #[arg(long, default_value_t = 20)]
        relays: u32,
        /// Seconds to watch.
        #[arg(long, default_value_t = 40)]
        seconds: u64,
    },
    /// Relays that one core carries, against the floor.
    Cores {
        /// Relays to measure with.
        #[arg(long, default_value_t = 200)]
        relays: u32,
        /// Seconds of each round.
        #[arg(long, default_value_t = 10)]
        seconds: u64,
        /// Rounds; the median counts.
        #[arg(long, default_value_t = 3)]
        rounds: usize,
    },
    /// The whole service under load: CPU per delivered byte against the floor, time of a request, memory.
    Service(whole::Whole),
    /// Feeds that encoders publish: CPU per delivered byte beside that of pulled feeds.
    Ingest {
        /// Encoders, each with a feed and a relay.
        #[arg(long, default_value_t = 100)]
        publishers: u32,
        /// Pushes of each relay.
        #[arg(long, default_value_t = 2)]
        pushes: u32,
        /// Video bit rate of each encoder, in kilobits per second.
        #[arg(long, default_value_t = 400)]
        kbps: u32,
        /// Seconds of each measurement.
        #[arg(long, default_value_t = 20)]
        seconds: u64,
    },
    /// HLS stream of a signpost over minutes, held against a checker, with a reboot of the camera and a hold.
    Stream {
        /// Seconds.
        #[arg(long, default_value_t = 600)]
        seconds: u64,
    },
    /// Viewers of a signpost: CPU per byte, memory, and the push beside them.
    Viewers {
        /// Viewers.
        #[arg(long, default_value_t = 500)]
        viewers: u32,
        /// Rate of the camera in megabits per second.
        #[arg(long, default_value_t = 2)]
        mbps: u32,
        /// Seconds of each measurement.
        #[arg(long, default_value_t = 20)]
        seconds: u64,
    },
    /// From the start of the service to all relays live.
    Starts {
        /// Relays.
        #[arg(long, default_value_t = 100)]
        relays: u32,
        /// Pushes of each relay.
        #[arg(long, default_value_t = 1)]
        pushes: u32,
        /// Starts.
        #[arg(long, default_value_t = 5)]
        times: u32,
    },
    /// Time of changes with many relays: a site book, and starts by single calls.
    Changes {
        /// Relays.
        #[arg(long, default_value_t = 1000)]
        relays: u32,
    },
    /// Effect of a stalled push on seven others.
    Stalled {
        /// Seconds of the stall.
        #[arg(long, default_value_t = 20)]
        seconds: u64,
    },
    /// How soon a picture is at the platform again once a camera is back.
    Reboots {
        /// Reboots.
        #[arg(long, default_value_t = 50)]
        times: u32,
    },
    /// Hours of faults, drawn at random: memory, files and tasks stay as they are.
    Soak(soak::Soak),
    /// Overhead of each protocol.
    Overhead,
    /// Cost, delay and quality of renditions.
    Rendition {
        /// Repetitions of each scene, of eight seconds.
        #[arg(long, default_value_t = 3)]
        loops: i64,
    },
    /// The measured half of `relay`: the engine alone.
    #[command(hide = true)]
    ChildEngine(children::Job),
    /// The other half of `relay`: a bare reader and writer.
    #[command(hide = true)]
    ChildFloor(children::Job),
}

/// As in the service.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> anyhow::Result<()> {
    match Arguments::parse().figure {
        Figure::Relay { mbps, pushes, over, seconds, rounds } => {
            relay::run(mbps, pushes, over, seconds, rounds)
        }
        Figure::Delay { relays, mbps, seconds } => delay::run(relays, mbps, seconds),
        Figure::Neighbour { feeds, mbps, pushes, keyframe_kb, seconds } => {
            delay::neighbour(feeds, mbps, seconds, delay::Neighbour { pushes, keyframe_kb })
        }
        Figure::Memory { relays, seconds } => capacity::memory(relays, seconds),
        Figure::Cores { relays, seconds, rounds } => capacity::cores(relays, seconds, rounds),
        Figure::Service(load) => whole::run(load),
        Figure::Ingest { publishers, pushes, kbps, seconds } => {
            ingest::run(publishers, pushes, kbps, seconds)
        }
        Figure::Stream { seconds } => stream::run(seconds),
        Figure::Viewers { viewers, mbps, seconds } => viewers::run(viewers, mbps, seconds),
        Figure::Starts { relays, pushes, times } => starts::run(relays, pushes, times),
        Figure::Changes { relays } => changes::run(relays),
        Figure::Stalled { seconds } => stalled::run(seconds),
        Figure::Reboots { times } => reboots::run(times),
        Figure::Soak(soak) => soak::run(&soak),
        Figure::Overhead => overhead::run(),
        Figure::Rendition { loops } => rendition::run(loops),
        Figure::ChildEngine(job) => children::engine(&job),
        Figure::ChildFloor(job) => children::floor(&job),
    }
}
