//! Added delay: from the last byte of a frame into our socket to its last byte out of the platform's socket.
//!
//! A camera writes the time into the end of each frame, and a platform searches for it. Both are in the measuring
//! process, with one clock. The floor is measured in the same way, with as many connections.

use std::net::{Ipv4Addr, SocketAddr, TcpListener as StdListener};
use std::os::fd::AsRawFd as _;
use std::process::{Child, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, ensure};
use bytes::BytesMut;
use nix::sys::socket::{MsgFlags, recv};
use parking_lot::Mutex;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _, Interest};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{MissedTickBehavior, interval_at, sleep};
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{Receiver, ReceiverEvent};

use crate::children::command;
use crate::load::{PPS, SPS};

/// Mark before the time, without zero bytes, so that no protocol changes it.
const MARK: &[u8] = b"yonder-bench-time=";
/// Length of the time: nanoseconds in hexadecimal.
const DIGITS: usize = 16;
const FPS: u32 = 25;
/// Time for connections and first keyframes, which are not part of the figure.
const SETTLE: Duration = Duration::from_secs(4);
/// Interval of keyframes, in frames.
const KEYFRAME_INTERVAL: u64 = 50;
/// Interval of the large keyframes of [`neighbour`], in frames.
const LARGE_INTERVAL: u64 = 25;
/// Size of that feed's other frames in bytes.
const LARGE_OTHER: usize = 10_000;

/// Frame sizes of a camera, in bytes.
#[derive(Debug, Clone, Copy)]
struct Sizes {
    keyframe: usize,
    other: usize,
    /// Frames from keyframe to keyframe.
    interval: u64,
}

impl Sizes {
    fn at(self, number: u64) -> (bool, usize) {
        let is_keyframe = number.is_multiple_of(self.interval);
        (is_keyframe, if is_keyframe { self.keyframe } else { self.other })
    }
}

/// Delays in microseconds.
struct Delays {
    p50: u128,
    p99: u128,
    p999: u128,
    max: u128,
    count: usize,
}

/// Feed with large keyframes and many pushes, next to the measured ones.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Neighbour {
    pub(crate) pushes: u32,
    pub(crate) keyframe_kb: u32,
}

/// Prints the delay of relays next to that of a bare forwarder.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(relays: u32, mbps: u32, seconds: u64) -> anyhow::Result<()> {
    println!("Last byte of a picture in → last byte out, {relays} relays of {mbps} Mbit/s, {seconds} s");
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let floor = runtime.block_on(measure("child-floor", relays, mbps, seconds, &[]))?;
    let engine = runtime.block_on(measure("child-engine", relays, mbps, seconds, &[]))?;
    report([("floor", &floor), ("engine", &engine)]);
    Ok(())
}

/// Prints the delay of feeds on one media thread, alone and next to a feed with large keyframes and many pushes.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn neighbour(feeds: u32, mbps: u32, seconds: u64, neighbour: Neighbour) -> anyhow::Result<()> {
    let Neighbour { pushes, keyframe_kb } = neighbour;
    println!(
        "Delay of {feeds} feeds of {mbps} Mbit/s on the media thread of a feed with {pushes} pushes and keyframes of \
         {keyframe_kb} kB each second, {seconds} s"
    );
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    // On a separate thread, so that they do not delay the measured ones.
    let beside = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let (camera, platform) = {
        let _context = beside.enter();
        (listen()?, listen()?)
    };
    let (camera_at, platform_at) = (camera.local_addr()?, platform.local_addr()?);
    let sizes = Sizes {
        keyframe: usize::try_from(keyframe_kb * 1_000)?,
        other: LARGE_OTHER,
        interval: LARGE_INTERVAL,
    };
    let began = Instant::now();
    beside.spawn(serve(camera, move |stream| film(stream, began, sizes)));
    let delivered: Arc<AtomicU64> = Arc::default();
    let count = Arc::clone(&delivered);
    beside.spawn(serve(platform, move |stream| discard(stream, Arc::clone(&count))));
    let one_thread = ["--media-threads", "1"].map(String::from);
    let options = [
        format!("--neighbour-camera={camera_at}"),
        format!("--neighbour-to=rtmp://{platform_at}/live"),
        format!("--neighbour-pushes={pushes}"),
    ];
    let both = [one_thread.as_slice(), options.as_slice()].concat();
    let alone = runtime.block_on(measure("child-engine", feeds, mbps, seconds, &one_thread))?;
    let with = runtime.block_on(measure("child-engine", feeds, mbps, seconds, &both))?;
    let delivered = delivered.load(Ordering::Relaxed);
    let wanted = u64::from(pushes) * u64::from(keyframe_kb) * 1_000 * seconds;
    ensure!(delivered > wanted, "only {delivered} bytes of {wanted} went to the other feed's platform");
    report([("alone", &alone), ("beside", &with)]);
    Ok(())
}

/// Prints two series and the difference of the second from the first.
#[expect(clippy::print_stdout, reason = "this is the figure")]
fn report(series: [(&str, &Delays); 2]) {
    for (name, Delays { p50, p99, p999, max, count }) in series {
        println!(
            "  {name:<7} p50 {p50:>6} µs   p99 {p99:>6} µs   p99.9 {p999:>6} µs   longest {max:>6} µs   {count} pictures"
        );
    }
    let [(_, base), (_, found)] = series;
    println!(
        "  added   p50 {:>6} µs   p99 {:>6} µs   p99.9 {:>6} µs   longest {:>6} µs",
        found.p50.saturating_sub(base.p50),
        found.p99.saturating_sub(base.p99),
        found.p999.saturating_sub(base.p999),
        found.max.saturating_sub(base.max)
    );
}

async fn measure(
    child: &str,
    relays: u32,
    mbps: u32,
    seconds: u64,
    options: &[String],
) -> anyhow::Result<Delays> {
    let began = Instant::now();
    let camera = listen()?;
    let platform = listen()?;
    let (camera_at, platform_at) = (camera.local_addr()?, platform.local_addr()?);
    let found: Arc<Mutex<Vec<u128>>> = Arc::default();
    let size = usize::try_from(mbps * 125_000 / FPS)?;
    let sizes = Sizes { keyframe: size, other: size, interval: KEYFRAME_INTERVAL };
    let cameras = tokio::spawn(serve(camera, move |stream| film(stream, began, sizes)));
    let speaks = child == "child-engine";
    let samples = Arc::clone(&found);
    let platforms =
        tokio::spawn(serve(platform, move |stream| watch(stream, began, speaks, Arc::clone(&samples))));
    let to = if speaks { format!("rtmp://{platform_at}/live") } else { platform_at.to_string() };
    let mut child = Ended(
        command(child, &camera_at.to_string(), &to, 1, seconds + 8)?
            .args(["--relays", &relays.to_string()])
            .args(options)
            .stdout(Stdio::null())
            .spawn()?,
    );
    sleep(SETTLE).await;
    found.lock().clear();
    sleep(Duration::from_secs(seconds)).await;
    let mut delays = std::mem::take(&mut *found.lock());
    child.0.kill()?;
    cameras.abort();
    platforms.abort();
    let wanted = usize::try_from(u64::from(relays * FPS) * seconds)?;
    ensure!(delays.len() * 10 > wanted * 9, "only {} of {wanted} pictures came", delays.len());
    delays.sort_unstable();
    let at = |permille: usize| {
        delays.get((delays.len() - 1) * permille / 1000).copied().unwrap_or_default() / 1000
    };
    Ok(Delays { p50: at(500), p99: at(990), p999: at(999), max: at(1000), count: delays.len() })
}

/// Process that is killed on drop.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        // It may have ended already.
        let _gone = self.0.kill();
        let _gone = self.0.wait();
    }
}

fn listen() -> anyhow::Result<TcpListener> {
    let listener = StdListener::bind(SocketAddr::from((Ipv4Addr::LOCALHOST, 0)))?;
    listener.set_nonblocking(true)?;
    Ok(TcpListener::from_std(listener)?)
}

async fn serve<F>(listener: TcpListener, each: impl Fn(TcpStream) -> F)
where
    F: Future<Output = anyhow::Result<()>> + Send + 'static,
{
    while let Ok((stream, _)) = listener.accept().await {
        let _nodelay = stream.set_nodelay(true);
        tokio::spawn(each(stream));
    }
}

/// Runs a camera: answers requests (RFC 2326) and then writes a frame every 40 ms, interleaved.
async fn film(mut stream: TcpStream, began: Instant, sizes: Sizes) -> anyhow::Result<()> {
    let mut input = Vec::new();
    let mut plays = false;
    while !plays {
        ensure!(stream.read_buf(&mut input).await? > 0, "gone");
        while let Some(end) = input.windows(4).position(|four| four == b"\r\n\r\n") {
            let request = String::from_utf8_lossy(&input[..end]).into_owned();
            input.drain(..end + 4);
            plays |= request.starts_with("PLAY");
            stream.write_all(answer(&request).as_bytes()).await?;
        }
    }
    let mut packets = Packets::default();
    let period = Duration::from_secs(1) / FPS;
    // Cameras are not in phase.
    let first = tokio::time::Instant::now() + period.mul_f64(rand::random_range(0.0..1.0));
    let mut ticks = interval_at(first, period);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    for number in 0_u64.. {
        ticks.tick().await;
        let picture = packets.picture(number, sizes, began);
        stream.write_all(&picture).await?;
    }
    Ok(())
}

fn answer(request: &str) -> String {
    let cseq = request.lines().find_map(|line| line.strip_prefix("CSeq:")).unwrap_or("0").trim();
    let head = format!("RTSP/1.0 200 OK\r\nCSeq: {cseq}\r\nSession: 1\r\n");
    match request.split(' ').next() {
        Some("DESCRIBE") => {
            let base64 = "Z0IAHtoCgPZA,aM48gA==";
            let sdp = format!(
                "v=0\r\no=- 1 1 IN IP4 127.0.0.1\r\ns=-\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n\
                 a=fmtp:96 packetization-mode=1;sprop-parameter-sets={base64}\r\na=control:picture\r\n"
            );
            format!("{head}Content-Type: application/sdp\r\nContent-Length: {}\r\n\r\n{sdp}", sdp.len())
        }
        Some("SETUP") => format!("{head}Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n"),
        Some("OPTIONS") => format!("{head}Public: OPTIONS, DESCRIBE, SETUP, PLAY, GET_PARAMETER\r\n\r\n"),
        _ => format!("{head}\r\n"),
    }
}

/// RTP packets (RFC 3550, 5.1), interleaved (RFC 2326, 10.12), fragmented (RFC 6184, 5.8).
#[derive(Default)]
struct Packets {
    sequence: u16,
    noise: u32,
}

impl Packets {
    fn picture(&mut self, number: u64, sizes: Sizes, began: Instant) -> Vec<u8> {
        let (keyframe, size) = sizes.at(number);
        let mut out = Vec::with_capacity(size + 512);
        let time = u32::try_from((number * u64::from(90_000 / FPS)) & 0xffff_ffff).unwrap_or_default();
        if keyframe {
            self.packet(&mut out, SPS, time, false);
            self.packet(&mut out, PPS, time, false);
        }
        let mut nal = vec![if keyframe { 0x65 } else { 0x41 }, 0x88];
        while nal.len() + MARK.len() + DIGITS < size {
            self.noise = self.noise.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            nal.extend_from_slice(&(self.noise | 0x0101_0101).to_be_bytes());
        }
        nal.extend_from_slice(MARK);
        // As late as possible.
        nal.extend_from_slice(format!("{:0DIGITS$x}", began.elapsed().as_nanos()).as_bytes());
        let (kind, body) = (nal[0], &nal[1..]);
        let count = body.len().div_ceil(1_400);
        for (at, fragment) in body.chunks(1_400).enumerate() {
            let start = if at == 0 { 0x80 } else { 0 };
            let end = if at + 1 == count { 0x40 } else { 0 };
            let mut payload = vec![kind & 0x60 | 28, start | end | kind & 0x1f];
            payload.extend_from_slice(fragment);
            self.packet(&mut out, &payload, time, at + 1 == count);
        }
        out
    }

    fn packet(&mut self, out: &mut Vec<u8>, payload: &[u8], time: u32, marker: bool) {
        let length = u16::try_from(payload.len() + 12).unwrap_or(u16::MAX);
        out.extend_from_slice(&[b'$', 0]);
        out.extend_from_slice(&length.to_be_bytes());
        out.extend_from_slice(&[0x80, 96 | if marker { 0x80 } else { 0 }]);
        out.extend_from_slice(&self.sequence.to_be_bytes());
        out.extend_from_slice(&time.to_be_bytes());
        out.extend_from_slice(&[0, 0, 0, 7]);
        out.extend_from_slice(payload);
        self.sequence = self.sequence.wrapping_add(1);
    }
}

/// Runs a platform: performs the RTMP dialogue, and then searches the data for times.
async fn watch(
    mut stream: TcpStream,
    began: Instant,
    speaks: bool,
    found: Arc<Mutex<Vec<u128>>>,
) -> anyhow::Result<()> {
    if speaks {
        accept(&mut stream).await?;
    }
    let mut input = BytesMut::with_capacity(256 * 1024);
    loop {
        ensure!(stream.read_buf(&mut input).await? > 0, "gone");
        let now = began.elapsed().as_nanos();
        let mut from = 0;
        while let Some(at) = find(&input[from..]).map(|at| from + at) {
            let digits = at + MARK.len()..at + MARK.len() + DIGITS;
            let Some(text) = input.get(digits.clone()) else { break };
            let sent = u128::from_str_radix(std::str::from_utf8(text).context("a time")?, 16)?;
            found.lock().push(now.saturating_sub(sent));
            from = digits.end;
        }
        // The beginning of a mark may be at the end.
        let keep = (input.len() - from).min(MARK.len() + DIGITS - 1);
        let cut = input.len() - keep;
        let _looked_at = input.split_to(cut);
    }
}

/// Accepts a broadcast.
async fn accept(stream: &mut TcpStream) -> anyhow::Result<()> {
    let mut input = BytesMut::new();
    let mut receiver = Receiver::new(rand::random());
    let mut published = false;
    while !published {
        ensure!(stream.read_buf(&mut input).await? > 0, "gone");
        deliver(&mut receiver, &mut input, Duration::ZERO)?;
        while let Some(event) = receiver.poll_event() {
            match event {
                ReceiverEvent::Connect { .. } => receiver.accept_connect(),
                ReceiverEvent::Publish { .. } => {
                    receiver.accept_publish();
                    published = true;
                }
                _ => {}
            }
        }
        stream.write_all(&take_transmit(&mut receiver, Duration::ZERO)).await?;
    }
    Ok(())
}

/// Runs a platform that discards data within the kernel (`MSG_TRUNC`), so that it costs nothing here.
async fn discard(mut stream: TcpStream, delivered: Arc<AtomicU64>) -> anyhow::Result<()> {
    accept(&mut stream).await?;
    let mut unused = vec![0; 1 << 20];
    loop {
        let socket = stream.as_raw_fd();
        let received = stream.async_io(Interest::READABLE, || {
            Ok(recv(socket, &mut unused, MsgFlags::MSG_TRUNC | MsgFlags::MSG_DONTWAIT)?)
        });
        let count = received.await?;
        ensure!(count > 0, "gone");
        delivered.fetch_add(u64::try_from(count)?, Ordering::Relaxed);
    }
}

fn find(bytes: &[u8]) -> Option<usize> {
    let mut from = 0;
    while let Some(at) = bytes.get(from..)?.iter().position(|byte| *byte == MARK[0]) {
        if bytes[from + at..].starts_with(MARK) {
            return Some(from + at);
        }
        from += at + 1;
    }
    None
}
