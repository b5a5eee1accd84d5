//! The two measured programs. Each settles, then counts its CPU time and delivered bytes.

use std::io::{ErrorKind, Read as _, Write as _};
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::ops::Range;
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
use yonder_core::PushPhase;
use yonder_engine::{
    Engine, FeedSpec, HoldSpec, MediaThreads, RelaySpec, RtspSpec, SourceSpec, TransportChoice,
};
use yonder_rtsp::CameraUrl;

use crate::load::{ACKNOWLEDGEMENT, PATH, push};

/// Time for connections, first keyframes and first allocations, which are not part of the figure.
const SETTLE: Duration = Duration::from_secs(12);
/// Size of an SRT ACKACK, a bare header.
const ANSWER: usize = 16;
/// Seven transport packets and the SRT header.
const DATAGRAM: usize = 7 * 188 + 16;

/// Parameters of a child process.
#[derive(Debug, Args)]
pub(crate) struct Job {
    /// Address of the camera.
    #[arg(long)]
    camera: SocketAddr,
    /// Server address of the platform, or address of the sink; `udp://` before a sink for datagrams.
    #[arg(long)]
    to: String,
    /// Pushes of each relay.
    #[arg(long)]
    pushes: u32,
    /// Seconds to measure.
    #[arg(long)]
    seconds: u64,
    /// Number of relays.
    #[arg(long, default_value_t = 1)]
    relays: u32,
    /// Number of the first channel: each round has its own channels, so that rounds do not interfere.
    #[arg(long, default_value_t = 0)]
    first: u32,
    /// Use a single core.
    #[arg(long)]
    one_core: bool,
    /// Request the audio as well.
    #[arg(long)]
    audio: bool,
    /// Media threads of the engine; one per core by default.
    #[arg(long)]
    media_threads: Option<usize>,
    /// Camera of an additional feed, which is not measured.
    #[arg(long, requires = "neighbour_to")]
    neighbour_camera: Option<SocketAddr>,
    /// Server address of its pushes.
    #[arg(long)]
    neighbour_to: Option<String>,
    /// Number of its pushes.
    #[arg(long, default_value_t = 0)]
    neighbour_pushes: u32,
}

/// Result of a child process.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Count {
    pub(crate) cpu_us: i64,
    pub(crate) bytes: u64,
}

impl Count {
    /// Returns the CPU nanoseconds per delivered byte.
    #[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
    pub(crate) fn ns_per_byte(&self) -> f64 {
        self.cpu_us as f64 * 1000.0 / self.bytes.max(1) as f64
    }
}

/// Returns the CPU time of this process, user and system, in microseconds.
fn cpu_us() -> anyhow::Result<i64> {
    let usage = getrusage(UsageWho::RUSAGE_SELF)?;
    let micros = |time: nix::sys::time::TimeVal| time.tv_sec() * 1_000_000 + time.tv_usec();
    Ok(micros(usage.user_time()) + micros(usage.system_time()))
}

#[expect(clippy::print_stdout, reason = "the measuring process reads it")]
fn print_count(count: &Count) -> anyhow::Result<()> {
    println!("{}", serde_json::to_string(count)?);
    Ok(())
}

/// Returns the command of a measured program.
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

/// Waits for a measured program and parses its result.
pub(crate) fn count(child: Child) -> anyhow::Result<Count> {
    let output = child.wait_with_output()?;
    anyhow::ensure!(output.status.success(), "a measured program failed");
    Ok(serde_json::from_slice(&output.stdout)?)
}

/// Pins this process to the first core.
fn pin() -> anyhow::Result<()> {
    let mut cores = CpuSet::new();
    cores.set(0)?;
    Ok(sched_setaffinity(Pid::from_raw(0), &cores)?)
}

/// Returns the specification of a relay with its own feed.
fn spec(name: String, camera: SocketAddr, channels: Range<u32>, to: &str) -> anyhow::Result<RelaySpec> {
    let (url, credentials) = CameraUrl::parse(&format!("rtsp://{camera}{PATH}"))?;
    let pushes = channels.map(|at| push(at, to)).collect::<anyhow::Result<Vec<_>>>()?;
    let feed = FeedSpec {
        name: name.clone(),
        source: SourceSpec::Rtsp(RtspSpec {
            url,
            credentials,
            secret_lost: false,
            transport: TransportChoice::Tcp,
            pin: None,
        }),
        history: Default::default(),
        measured: None,
    };
    Ok(RelaySpec { name, feed, pushes, hold: HoldSpec::default(), hls: false })
}

/// Runs the engine alone, as in the service.
pub(crate) fn engine(job: &Job) -> anyhow::Result<()> {
    if job.one_core {
        pin()?;
    }
    let cores = std::thread::available_parallelism()?.get();
    let threads = MediaThreads::start(job.media_threads.unwrap_or(cores))?;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let engine = Engine::with_media_threads(runtime.handle().clone(), &threads);
    let name = |relay: u32| format!("load-{relay}");
    for relay in 0..job.relays {
        let first = job.first + relay * job.pushes;
        engine.apply(spec(name(relay), job.camera, first..first + job.pushes, &job.to)?);
    }
    if let (Some(camera), Some(to)) = (job.neighbour_camera, &job.neighbour_to) {
        engine.apply(spec("neighbour".into(), camera, 0..job.neighbour_pushes, to)?);
    }
    std::thread::sleep(SETTLE);
    let sent = || -> anyhow::Result<u64> {
        let mut bytes = 0;
        for relay in 0..job.relays {
            let view = engine.relay(&name(relay)).context("the relay is gone")?;
            anyhow::ensure!(
                view.pushes.iter().all(|push| push.state == PushPhase::Live),
                "not live: {view:?}"
            );
            bytes += view.pushes.iter().map(|push| push.bytes).sum::<u64>();
        }
        Ok(bytes)
    };
    let (cpu_before, bytes_before) = (cpu_us()?, sent()?);
    std::thread::sleep(Duration::from_secs(job.seconds));
    let count = Count { cpu_us: cpu_us()? - cpu_before, bytes: sent()? - bytes_before };
    print_count(&count)?;
    runtime.block_on(engine.shutdown());
    Ok(())
}

/// Output of the floor: streams, or datagrams of the same size as SRT's.
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
        socket.set_nonblocking(true)?;
        Ok(Self::Datagrams(socket))
    }

    fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        match self {
            Self::Stream(stream) => stream.write_all(bytes),
            Self::Datagrams(socket) => {
                for datagram in bytes.chunks(DATAGRAM) {
                    match socket.send(datagram) {
                        Err(error) if error.kind() == ErrorKind::WouldBlock => {}
                        sent => drop(sent?),
                    }
                }
                Ok(())
            }
        }
    }

    /// Answers acknowledgements (ACKACK), as SRT requires.
    fn answer(&self) -> std::io::Result<()> {
        let Self::Datagrams(socket) = self else { return Ok(()) };
        let mut acknowledgement = [0; ACKNOWLEDGEMENT];
        loop {
            match socket.recv(&mut acknowledgement) {
                Ok(_) => drop(socket.send(&[0; ANSWER])),
                Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(()),
                Err(error) => return Err(error),
            }
        }
    }

    /// Returns the socket that receives acknowledgements.
    fn acknowledged(&self) -> Option<&UdpSocket> {
        match self {
            Self::Stream(_) => None,
            Self::Datagrams(socket) => Some(socket),
        }
    }
}

/// Runs the floor: reads the camera's bytes from one socket and writes them to others, without parsing. With several
/// relays it waits for all cameras at once.
pub(crate) fn floor(job: &Job) -> anyhow::Result<()> {
    if job.one_core {
        pin()?;
    }
    let mut relays = Vec::new();
    for _ in 0..job.relays {
        let mut from = TcpStream::connect(job.camera)?;
        play(&mut from, job.camera, job.audio)?;
        let to = (0..job.pushes).map(|_| Out::open(job)).collect::<Result<Vec<_>, _>>()?;
        relays.push((from, to));
    }
    let mut buffer = vec![0; 64 * 1024];
    let began = Instant::now();
    let mut start: Option<(i64, u64)> = None;
    let mut bytes = 0;
    loop {
        let (readable, acknowledged) = ready(&relays)?;
        for (relay, out) in acknowledged {
            if let Some(out) = relays.get(relay).and_then(|(_, to)| to.get(out)) {
                out.answer()?;
            }
        }
        for at in readable {
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
            return print_count(&Count { cpu_us: cpu_us()? - cpu_before, bytes: bytes - bytes_before });
        }
    }
}

/// Relays with data to read, and outputs with acknowledgements. A single relay over TCP is read without waiting.
type Readable = (Vec<usize>, Vec<(usize, usize)>);

fn ready(relays: &[(TcpStream, Vec<Out>)]) -> anyhow::Result<Readable> {
    let sockets: Vec<((usize, usize), &UdpSocket)> = relays
        .iter()
        .enumerate()
        .flat_map(|(relay, (_, to))| to.iter().enumerate().map(move |(out, to)| ((relay, out), to)))
        .filter_map(|(place, to)| Some((place, to.acknowledged()?)))
        .collect();
    if relays.len() == 1 && sockets.is_empty() {
        return Ok((vec![0], Vec::new()));
    }
    let cameras = relays.iter().map(|(from, _)| PollFd::new(from.as_fd(), PollFlags::POLLIN));
    let outputs = sockets.iter().map(|(_, socket)| PollFd::new(socket.as_fd(), PollFlags::POLLIN));
    let mut polled: Vec<PollFd<'_>> = cameras.chain(outputs).collect();
    poll(&mut polled, PollTimeout::NONE)?;
    let is_ready: Vec<bool> = polled.iter().map(|polled| polled.any().unwrap_or_default()).collect();
    let (cameras, outputs) = is_ready.split_at(relays.len());
    let readable = cameras.iter().enumerate().filter(|(_, is_ready)| **is_ready).map(|(at, _)| at);
    let acknowledged =
        sockets.iter().zip(outputs).filter(|(_, is_ready)| **is_ready).map(|((place, _), _)| *place);
    Ok((readable.collect(), acknowledged.collect()))
}

/// Sets the tracks up and starts playing.
fn play(stream: &mut TcpStream, camera: SocketAddr, audio: bool) -> anyhow::Result<()> {
    let url = format!("rtsp://{camera}{PATH}");
    let set_up = |track: &str, channels: &str| {
        let transport = format!("Transport: RTP/AVP/TCP;unicast;interleaved={channels}\r\n");
        (format!("SETUP {url}/{track}"), transport)
    };
    let mut requests = vec![set_up("picture", "0-1")];
    if audio {
        requests.push(set_up("sound", "2-3"));
    }
    requests.push((format!("PLAY {url}"), String::new()));
    let mut session = String::new();
    for (sequence, (line, fields)) in (1..).zip(requests) {
        let request = format!("{line} RTSP/1.0\r\nCSeq: {sequence}\r\n{fields}{session}\r\n");
        stream.write_all(request.as_bytes())?;
        let response = read_head(stream)?;
        anyhow::ensure!(response.starts_with("RTSP/1.0 200"), "the camera answers {response:?}");
        let id = response.lines().find_map(|line| line.strip_prefix("Session: "));
        let id = id.and_then(|value| value.split(';').next()).context("the camera names no session")?;
        session = format!("Session: {id}\r\n");
    }
    Ok(())
}

/// Reads a response without a body.
fn read_head(stream: &mut TcpStream) -> anyhow::Result<String> {
    let mut head = Vec::new();
    while !head.ends_with(b"\r\n\r\n") {
        let mut byte = [0];
        stream.read_exact(&mut byte)?;
        head.extend_from_slice(&byte);
    }
    Ok(String::from_utf8(head)?)
}
