//! The two measured programs. Each settles, then counts its own CPU time and delivered bytes over the round.

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::os::fd::AsFd as _;
use std::process::{Child, Command};
use std::time::{Duration, Instant};

use anyhow::Context as _;
use clap::Args;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sched::{CpuSet, sched_setaffinity};
use nix::sys::resource::{UsageWho, getrusage};
use nix::unistd::Pid;
use serde::{Deserialize, Serialize};
use yonder_engine::{Engine, FeedSpec, HoldSpec, MediaThreads, RelaySpec, TransportChoice};
use yonder_rtsp::CameraUrl;

use crate::load::{PATH, push};

/// Connections and first keyframes are not part of the figure, nor is memory that is taken from the system for the first
/// time: what runs for months does that once.
const SETTLE: Duration = Duration::from_secs(12);
/// Seven transport packets and SRT's header.
const DATAGRAM: usize = 7 * 188 + 16;

/// What a child is to do.
#[derive(Debug, Args)]
pub(crate) struct Job {
    /// Where the camera listens.
    #[arg(long)]
    camera: SocketAddr,
    /// The platform's server address, or the sink; `udp://` before a sink for datagrams.
    #[arg(long)]
    to: String,
    /// Pushes of each relay.
    #[arg(long)]
    pushes: u32,
    /// Seconds to count.
    #[arg(long)]
    seconds: u64,
    /// Relays, each with so many pushes.
    #[arg(long, default_value_t = 1)]
    relays: u32,
    /// Number of the first channel: each round has channels of its own, which nobody can be in the way of.
    #[arg(long, default_value_t = 0)]
    first: u32,
    /// Use one core alone.
    #[arg(long)]
    one_core: bool,
}

/// What a child found.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Count {
    pub(crate) cpu_us: i64,
    pub(crate) bytes: u64,
}

impl Count {
    /// CPU nanoseconds for each delivered byte.
    #[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
    pub(crate) fn ns_per_byte(&self) -> f64 {
        self.cpu_us as f64 * 1000.0 / self.bytes.max(1) as f64
    }
}

/// CPU time of this process so far, user and system, in microseconds.
fn cpu_us() -> anyhow::Result<i64> {
    let usage = getrusage(UsageWho::RUSAGE_SELF)?;
    let micros = |time: nix::sys::time::TimeVal| time.tv_sec() * 1_000_000 + time.tv_usec();
    Ok(micros(usage.user_time()) + micros(usage.system_time()))
}

#[expect(clippy::print_stdout, reason = "the measuring process reads it")]
fn tell(count: &Count) -> anyhow::Result<()> {
    println!("{}", serde_json::to_string(count)?);
    Ok(())
}

/// One of the measured programs, ready to be started.
pub(crate) fn command(
    name: &str,
    camera: &str,
    to: &str,
    pushes: u32,
    seconds: u64,
) -> anyhow::Result<Command> {
    let mut command = Command::new(std::env::current_exe()?);
    command.args([name, "--camera", camera, "--to", to]).args([
        "--pushes",
        &pushes.to_string(),
        "--seconds",
        &seconds.to_string(),
    ]);
    Ok(command)
}

/// Waits for a measured program and reads what it found.
pub(crate) fn count(child: Child) -> anyhow::Result<Count> {
    let output = child.wait_with_output()?;
    anyhow::ensure!(output.status.success(), "a measured program failed");
    Ok(serde_json::from_slice(&output.stdout)?)
}

/// Keeps this process on the first core.
fn pin() -> anyhow::Result<()> {
    let mut cores = CpuSet::new();
    cores.set(0)?;
    Ok(sched_setaffinity(Pid::from_raw(0), &cores)?)
}

/// The engine alone, as the service runs it.
pub(crate) fn engine(job: &Job) -> anyhow::Result<()> {
    if job.one_core {
        pin()?;
    }
    let threads = MediaThreads::start(std::thread::available_parallelism()?.get())?;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let engine = Engine::with_media_threads(runtime.handle().clone(), &threads);
    let (url, credentials) = CameraUrl::parse(&format!("rtsp://{}{PATH}", job.camera))?;
    let name = |relay: u32| format!("load-{relay}");
    for relay in 0..job.relays {
        let first = job.first + relay * job.pushes;
        let pushes =
            (first..first + job.pushes).map(|at| push(at, &job.to)).collect::<anyhow::Result<Vec<_>>>()?;
        let (url, credentials) = (url.clone(), credentials.clone());
        let feed = FeedSpec {
            name: name(relay),
            url,
            credentials,
            transport: TransportChoice::Tcp,
            pin: None,
            history: Default::default(),
        };
        engine.apply(RelaySpec { name: name(relay), feed, pushes, hold: HoldSpec::default() });
    }
    std::thread::sleep(SETTLE);
    let sent = || -> anyhow::Result<u64> {
        let mut bytes = 0;
        for relay in 0..job.relays {
            let view = engine.relay(&name(relay)).context("the relay is gone")?;
            anyhow::ensure!(view.pushes.iter().all(|push| push.state == "live"), "not live: {view:?}");
            bytes += view.pushes.iter().map(|push| push.bytes).sum::<u64>();
        }
        Ok(bytes)
    };
    let (cpu_before, bytes_before) = (cpu_us()?, sent()?);
    std::thread::sleep(Duration::from_secs(job.seconds));
    let count = Count { cpu_us: cpu_us()? - cpu_before, bytes: sent()? - bytes_before };
    tell(&count)?;
    runtime.block_on(engine.shutdown());
    Ok(())
}

/// Where the floor writes to: streams, or datagrams of the size that SRT's have.
enum Out {
    Stream(TcpStream),
    Datagrams(UdpSocket),
}

impl Out {
    fn open(job: &Job) -> anyhow::Result<Self> {
        let Some(sink) = job.to.strip_prefix("udp://") else {
            return Ok(Self::Stream(TcpStream::connect(job.to.parse::<SocketAddr>()?)?));
        };
        let socket = UdpSocket::bind("127.0.0.1:0")?;
        socket.connect(sink)?;
        Ok(Self::Datagrams(socket))
    }

    fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        match self {
            Self::Stream(stream) => stream.write_all(bytes),
            Self::Datagrams(socket) => {
                for datagram in bytes.chunks(DATAGRAM) {
                    socket.send(datagram)?;
                }
                Ok(())
            }
        }
    }
}

/// The floor: reads the camera's bytes from one socket and writes them to others, and looks at nothing. With more
/// relays than one it waits for all of its cameras at once.
pub(crate) fn floor(job: &Job) -> anyhow::Result<()> {
    if job.one_core {
        pin()?;
    }
    let mut relays = Vec::new();
    for _ in 0..job.relays {
        let mut from = TcpStream::connect(job.camera)?;
        play(&mut from, job.camera)?;
        let to = (0..job.pushes).map(|_| Out::open(job)).collect::<Result<Vec<_>, _>>()?;
        relays.push((from, to));
    }
    let mut buffer = vec![0; 64 * 1024];
    let began = Instant::now();
    let mut start: Option<(i64, u64)> = None;
    let mut bytes = 0;
    loop {
        for at in ready(&relays)? {
            let Some((from, to)) = relays.get_mut(at) else { continue };
            let count = from.read(&mut buffer)?;
            anyhow::ensure!(count > 0, "the camera hung up");
            for out in to {
                out.write(&buffer[..count])?;
            }
            bytes += u64::try_from(count)? * u64::from(job.pushes);
        }
        let elapsed = began.elapsed();
        if start.is_none() && elapsed >= SETTLE {
            start = Some((cpu_us()?, bytes));
        }
        if let Some((cpu_before, bytes_before)) = start
            && elapsed >= SETTLE + Duration::from_secs(job.seconds)
        {
            return tell(&Count { cpu_us: cpu_us()? - cpu_before, bytes: bytes - bytes_before });
        }
    }
}

/// Which relays have something to read. A single one is simply read from.
fn ready(relays: &[(TcpStream, Vec<Out>)]) -> anyhow::Result<Vec<usize>> {
    if relays.len() == 1 {
        return Ok(vec![0]);
    }
    let mut polled: Vec<PollFd<'_>> =
        relays.iter().map(|(from, _)| PollFd::new(from.as_fd(), PollFlags::POLLIN)).collect();
    poll(&mut polled, PollTimeout::NONE)?;
    let ready = polled.iter().enumerate().filter(|(_, polled)| polled.any().unwrap_or_default());
    Ok(ready.map(|(at, _)| at).collect())
}

/// Asks the camera to play, without a look at what it answers.
fn play(stream: &mut TcpStream, camera: SocketAddr) -> anyhow::Result<()> {
    let url = format!("rtsp://{camera}{PATH}");
    let requests = [
        format!(
            "SETUP {url}/picture RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n"
        ),
        format!("PLAY {url} RTSP/1.0\r\nCSeq: 2\r\n\r\n"),
    ];
    Ok(stream.write_all(requests.concat().as_bytes())?)
}
