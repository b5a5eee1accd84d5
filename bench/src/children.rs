//! The two measured programs. Each settles, then counts its own CPU time and delivered bytes over the round.

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::time::{Duration, Instant};

use anyhow::Context as _;
use clap::Args;
use nix::sys::resource::{UsageWho, getrusage};
use serde::{Deserialize, Serialize};
use yonder_engine::{Engine, FeedSpec, HoldSpec, RelaySpec, TransportChoice};
use yonder_rtsp::CameraUrl;

use crate::load::{PATH, push};

/// Connections and first keyframes are not part of the figure.
const SETTLE: Duration = Duration::from_secs(2);

/// What a child is to do.
#[derive(Debug, Args)]
pub(crate) struct Job {
    /// Where the camera listens.
    #[arg(long)]
    camera: SocketAddr,
    /// The platform's server address, or the sink.
    #[arg(long)]
    to: String,
    /// Pushes.
    #[arg(long)]
    pushes: u32,
    /// Seconds to count.
    #[arg(long)]
    seconds: u64,
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

/// The engine alone, as the service runs it.
pub(crate) fn engine(job: &Job) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    let engine = Engine::new(runtime.handle().clone());
    let (url, credentials) = CameraUrl::parse(&format!("rtsp://{}{PATH}", job.camera))?;
    let pushes = (0..job.pushes).map(|at| push(at, &job.to)).collect::<anyhow::Result<Vec<_>>>()?;
    let feed = FeedSpec { name: "load".into(), url, credentials, transport: TransportChoice::Tcp, pin: None };
    engine.apply(RelaySpec { name: "load".into(), feed, pushes, hold: HoldSpec::default() });
    std::thread::sleep(SETTLE);
    let sent = || -> anyhow::Result<u64> {
        let view = engine.relay("load").context("the relay is gone")?;
        anyhow::ensure!(view.pushes.iter().all(|push| push.state == "live"), "not live: {view:?}");
        Ok(view.pushes.iter().map(|push| push.bytes).sum())
    };
    let (cpu_before, bytes_before) = (cpu_us()?, sent()?);
    std::thread::sleep(Duration::from_secs(job.seconds));
    let count = Count { cpu_us: cpu_us()? - cpu_before, bytes: sent()? - bytes_before };
    tell(&count)?;
    runtime.block_on(engine.shutdown());
    Ok(())
}

/// The floor: reads the camera's bytes from one socket and writes them to others, and looks at nothing.
pub(crate) fn floor(job: &Job) -> anyhow::Result<()> {
    let mut from = TcpStream::connect(job.camera)?;
    play(&mut from, job.camera)?;
    let sink: SocketAddr = job.to.parse()?;
    let mut to = (0..job.pushes).map(|_| TcpStream::connect(sink)).collect::<Result<Vec<_>, _>>()?;
    let mut buffer = vec![0; 64 * 1024];
    let began = Instant::now();
    let mut start: Option<(i64, u64)> = None;
    let mut bytes = 0;
    loop {
        let count = from.read(&mut buffer)?;
        anyhow::ensure!(count > 0, "the camera hung up");
        for stream in &mut to {
            stream.write_all(&buffer[..count])?;
        }
        bytes += u64::try_from(count)? * u64::from(job.pushes);
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
