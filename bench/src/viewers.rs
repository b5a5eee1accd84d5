//! Viewers of a signpost: CPU per byte, memory, and the pushes beside them.

use std::fs;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, bail, ensure};
use serde_json::Value;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpSocket, TcpStream};
use tokio::task::JoinSet;

use crate::capacity::register;
use crate::load::Load;
use crate::service::Service;

/// Alias of the signpost.
const ALIAS: &str = "load";
/// Time for the viewers to begin.
const SETTLE: Duration = Duration::from_secs(10);
/// Interval at which a viewer requests the playlist.
const POLL: Duration = Duration::from_secs(2);
/// Timeout of the first playlist.
const WAIT_TIMEOUT: Duration = Duration::from_secs(30);

/// Counts of all viewers.
#[derive(Debug, Default)]
struct Counts {
    bytes: AtomicU64,
    segments: AtomicU64,
    /// Segments that a viewer has missed.
    missed: AtomicU64,
}

/// Measures a relay of `mbps` with one push and `viewers` of its signpost.
#[expect(clippy::print_stdout, reason = "this is the figure")]
#[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
pub(crate) fn run(viewers: u32, mbps: u32, seconds: u64) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(mbps, 1) })?;
    let service = Service::start_with(&["--public", "127.0.0.1:0"])?;
    register(&service, &load, 1, 1)?;
    let most = viewers.to_string();
    let add = ["signpost", "add", ALIAS, "--relay", "Line 000", "--max-viewers", &most];
    service.must(&add, "")?;
    let address = public_address(&service)?;
    runtime.block_on(wait_for_stream(address))?;
    let measured = Duration::from_secs(seconds);
    let idle_before = service.cpu_us()?;
    std::thread::sleep(measured);
    let idle_us = service.cpu_us()? - idle_before;
    let resident = service.sample()?.resident_kb;

    let counts = Arc::new(Counts::default());
    let mut watching = JoinSet::new();
    for viewer in 0..viewers {
        let counts = Arc::clone(&counts);
        watching.spawn_on(async move { watch(viewer, address, &counts).await }, runtime.handle());
    }
    std::thread::sleep(SETTLE);
    let bytes_before = counts.bytes.load(Ordering::Relaxed);
    let cpu_before = service.cpu_us()?;
    std::thread::sleep(measured);
    let cpu_us = service.cpu_us()? - cpu_before;
    let bytes = counts.bytes.load(Ordering::Relaxed) - bytes_before;
    let resident_with = service.sample()?.resident_kb;
    let refused = runtime.block_on(status_of(viewers, address))?;
    while let Some(ended) = watching.try_join_next() {
        ended??;
    }
    ensure!(refused == 503, "a viewer over the limit got {refused}");
    let missed = counts.missed.load(Ordering::Relaxed);
    ensure!(missed == 0, "viewers have missed {missed} segments");
    let relay = service.relays()?.pop().context("there is a relay")?;
    let push = &relay["pushes"][0];
    ensure!(push["reconnects"] == 0 && push["frames_dropped"] == 0, "the push was disturbed: {push:#}");

    println!("{viewers} viewers of {mbps} Mbit/s, one push beside them, {seconds} s");
    println!(
        "  without viewers {:>6.3} cores {:>6} MB",
        idle_us as f64 / (seconds as f64 * 1e6),
        resident / 1_024
    );
    println!(
        "  with viewers    {:>6.3} cores {:>6} MB",
        cpu_us as f64 / (seconds as f64 * 1e6),
        resident_with / 1_024
    );
    let rate = bytes as f64 * 8.0 / (seconds as f64 * 1e6);
    println!(
        "  sent            {rate:>6.0} Mbit/s, {:.2} ns/byte",
        (cpu_us - idle_us) as f64 * 1_000.0 / bytes.max(1) as f64
    );
    println!(
        "  segments        {} without a gap; the viewer after the last one was refused",
        counts.segments.load(Ordering::Relaxed)
    );
    Ok(())
}

fn public_address(service: &Service) -> anyhow::Result<SocketAddr> {
    let facts: Value = serde_json::from_str(&fs::read_to_string(service.home().join("service.json"))?)?;
    let url = facts["public"].as_str().context("service.json has no public address")?;
    Ok(url.trim_start_matches("http://").parse()?)
}

async fn wait_for_stream(address: SocketAddr) -> anyhow::Result<()> {
    let begun = Instant::now();
    while status_of(0, address).await? != 200 {
        ensure!(begun.elapsed() < WAIT_TIMEOUT, "there is no stream");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    Ok(())
}

/// Returns the status of a viewer's first request.
async fn status_of(viewer: u32, address: SocketAddr) -> anyhow::Result<u16> {
    let mut connection = Connection::open(viewer, address).await?;
    Ok(connection.get(&format!("/w/{ALIAS}/live.m3u8")).await?.status)
}

/// Fetches each segment once, like a player.
async fn watch(viewer: u32, address: SocketAddr, counts: &Counts) -> anyhow::Result<()> {
    let mut connection = Connection::open(viewer, address).await?;
    let master = connection.get(&format!("/w/{ALIAS}/live.m3u8")).await?;
    ensure!(master.status == 200, "viewer {viewer} got {}", master.status);
    let master = String::from_utf8(master.body)?;
    let media = master.lines().last().context("the master playlist is empty")?.to_owned();
    let mut last = None;
    loop {
        let begun = Instant::now();
        let playlist = connection.get(&format!("/w/{ALIAS}/{media}")).await?;
        ensure!(playlist.status == 200, "viewer {viewer} got {}", playlist.status);
        let playlist = String::from_utf8(playlist.body)?;
        let numbers = playlist
            .lines()
            .filter_map(|line| line.strip_prefix("segment-")?.strip_suffix(".m4s")?.parse::<u64>().ok());
        let numbers: Vec<u64> = numbers.collect();
        // A player begins at the live edge.
        let begin = if last.is_none() { numbers.len().saturating_sub(1) } else { 0 };
        for number in numbers.into_iter().skip(begin) {
            match last {
                Some(last) if number <= last => continue,
                Some(last) => {
                    counts.missed.fetch_add(number - last - 1, Ordering::Relaxed);
                }
                None => {}
            }
            let segment = connection.get(&format!("/w/{ALIAS}/segment-{number}.m4s")).await?;
            ensure!(segment.status == 200, "segment {number}: {}", segment.status);
            counts.bytes.fetch_add(u64::try_from(segment.body.len())?, Ordering::Relaxed);
            counts.segments.fetch_add(1, Ordering::Relaxed);
            last = Some(number);
        }
        tokio::time::sleep(POLL.saturating_sub(begun.elapsed())).await;
    }
}

/// Answer to a request.
struct Answer {
    status: u16,
    body: Vec<u8>,
}

/// Connection of a viewer, from an address of its own.
struct Connection {
    stream: TcpStream,
    buffer: Vec<u8>,
}

impl Connection {
    async fn open(viewer: u32, address: SocketAddr) -> anyhow::Result<Self> {
        let socket = TcpSocket::new_v4()?;
        let [_, high, middle, low] = viewer.to_be_bytes();
        socket.bind((Ipv4Addr::new(127, high.saturating_add(1), middle, low), 0).into())?;
        Ok(Self { stream: socket.connect(address).await?, buffer: Vec::new() })
    }

    async fn get(&mut self, path: &str) -> anyhow::Result<Answer> {
        let request = format!("GET {path} HTTP/1.1\r\nHost: viewers\r\n\r\n");
        self.stream.write_all(request.as_bytes()).await?;
        let end = loop {
            if let Some(at) = self.buffer.windows(4).position(|window| window == b"\r\n\r\n") {
                break at + 4;
            }
            self.read().await?;
        };
        let head = String::from_utf8(self.buffer.drain(..end).collect())?.to_ascii_lowercase();
        let status = head.split(' ').nth(1).context("no status")?.parse()?;
        let length = head.lines().find_map(|line| line.strip_prefix("content-length: "));
        let length: usize = length.context("no length")?.trim().parse()?;
        while self.buffer.len() < length {
            self.read().await?;
        }
        Ok(Answer { status, body: self.buffer.drain(..length).collect() })
    }

    async fn read(&mut self) -> anyhow::Result<()> {
        if self.stream.read_buf(&mut self.buffer).await? == 0 {
            bail!("the connection was closed");
        }
        Ok(())
    }
}
