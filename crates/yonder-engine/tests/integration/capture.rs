//! Traffic on loopback, read by an independent protocol analyzer: no malformed packet in RTSP, RTP, H.264,
//! RTMP, SRT and MPEG-TS.
//!
//! Needs Debian's package `tshark` and the right to capture; where either is missing the tests fail.

use std::io::{BufRead as _, BufReader};
use std::net::UdpSocket;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::support::{KEY, PASSWORD, World, push_to, rtsp};
use rstest::rstest;
use tokio::sync::{Mutex, mpsc};
use yonder_address::{KeyLength, Passphrase, StreamKey, read_server};
use yonder_engine::{HoldSpec, PushSpec, RelaySpec, TransportChoice};
use yonder_ingest::{FeedAccess, IngestConfig, IngestRegistry, IngestServer, PublisherMessage, UnitEvent};
use yonder_media::ts::{Muxer, PACKET};
use yonder_media::{AccessUnit, Payload, StreamHeaders, Track};
use yonder_sim::{Encoder, EncoderConfig, Impairment, PlatformConfig, PlatformFaults, SrtConfig};

static CAPTURE_LOCK: Mutex<()> = Mutex::const_new(());

/// Ends the capture whatever becomes of the test.
struct Capture(Child);

impl Capture {
    /// # Panics
    /// If tshark is missing or may not capture.
    fn start(file: &Path, ports: [u16; 2]) -> Self {
        // Datagrams go between ports that are not known before.
        let filter = format!("tcp port {} or tcp port {} or udp portrange 10000-65535", ports[0], ports[1]);
        let mut child = Command::new("tshark")
            .args(["-i", "lo", "-s", "0", "-B", "64", "-w"])
            .arg(file)
            .args(["-f", &filter])
            .stderr(Stdio::piped())
            .spawn()
            .expect("the package tshark is installed");
        let mut message = String::new();
        let said = BufReader::new(child.stderr.take().unwrap()).lines().map_while(Result::ok);
        for line in said {
            message += &line;
            if line.contains("Capturing on") {
                // The announcement comes a moment before the first packet can be seen, and before the refusal
                // of those who may not capture.
                if sees_packets(&mut child, file) {
                    return Self(child);
                }
                break;
            }
        }
        let _gone = (child.kill(), child.wait());
        panic!("tshark cannot capture on loopback: {message}");
    }
}

/// Sends datagrams until one of them is in the capture file. False when the capture has ended.
fn sees_packets(child: &mut Child, file: &Path) -> bool {
    let length = || std::fs::metadata(file).map_or(0, |facts| facts.len());
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.connect(socket.local_addr().unwrap()).unwrap();
    // Length of the file without packets, once it is there.
    let mut empty = None;
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(20) && matches!(child.try_wait(), Ok(None)) {
        socket.send(&[0; 64]).unwrap();
        match empty {
            Some(empty) if length() > empty => return true,
            Some(_) => {}
            None => empty = Some(length()).filter(|length| *length > 0),
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    false
}

impl Drop for Capture {
    fn drop(&mut self) {
        let _gone = (self.0.kill(), self.0.wait());
    }
}

/// The line's own ports: of the camera and the platform, and those that were agreed on for datagrams. Whatever else
/// goes over loopback meanwhile is none of ours.
fn own_ports(file: &Path, ports: [u16; 2]) -> String {
    let camera = format!("tcp.port=={}", ports[0]);
    let output = Command::new("tshark")
        .arg("-r")
        .arg(file)
        .args(["-d", &format!("{camera},rtsp"), "-Y", &format!("{camera} && rtsp.transport")])
        .args(["-T", "fields", "-e", "rtsp.transport"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let agreed = said
        .split([';', ',', '\n'])
        .filter_map(|part| {
            let part = part.trim();
            part.strip_prefix("client_port=").or_else(|| part.strip_prefix("server_port="))
        })
        .flat_map(|range| range.split('-'));
    let ports: Vec<String> = ports.map(|port| port.to_string()).into();
    ports.iter().map(String::as_str).chain(agreed).collect::<Vec<_>>().join(",")
}

/// Warnings and errors of the group "protocol". TCP has its own, about the tail of connections that were closed. In session
/// descriptions the analyser takes the second half of a long parameter set for another NAL unit.
const PROTOCOL_WARNINGS: &str = "_ws.expert.group == \"Protocol\" && _ws.expert.severity >= warning \
    && (rtsp || rtp || rtcp || rtmpt || srt || mp2t) && !tcp.analysis.flags && !sdp";

/// Counts packets that a display filter selects.
fn count(file: &Path, ports: [u16; 2], codec: &str, filter: &str) -> usize {
    fields(file, ports, codec, filter, "frame.number").len()
}

/// Returns a field of the packets that a display filter selects.
fn fields(file: &Path, ports: [u16; 2], codec: &str, filter: &str, field: &str) -> Vec<String> {
    let output = Command::new("tshark")
        .arg("-r")
        .arg(file)
        .args(["-d", &format!("tcp.port=={},rtsp", ports[0])])
        .args(["-d", &format!("tcp.port=={},rtmpt", ports[1])])
        .args(["-d", &format!("udp.port=={},srt", ports[1])])
        // By default the analyser gives up on messages above 32 kB, which every keyframe is.
        .args(["-o", "rtmpt.max_packet_size:8388608", "-o", &format!("{codec}.dynamic.payload.type:96")])
        .args(["-Y", filter, "-T", "fields", "-e", field])
        .output()
        .unwrap();
    assert!(output.status.success(), "{filter}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect()
}

/// Camera and platform of a capture.
struct Line {
    world: World,
    push: PushSpec,
    port: u16,
}

fn over_rtmp() -> Line {
    let world = World::start();
    let (push, port) = (world.push("to-0", KEY), world.platform.address().port());
    Line { world, push, port }
}

/// With losses, so that there are loss reports and retransmissions to be read as well.
fn over_srt(passphrase: Option<&str>) -> Line {
    let phrase = passphrase.map(|text| Passphrase::parse(text).unwrap());
    let srt = SrtConfig { passphrase: phrase.clone(), ..SrtConfig::default() };
    let faults = PlatformFaults {
        impairment: Impairment { loss_permille: 30, ..Impairment::default() },
        ..PlatformFaults::default()
    };
    let world = World::with_platform(PlatformConfig { srt: Some(srt), faults, ..PlatformConfig::default() });
    let mut push = push_to("to-0", &world.platform.srt_server().unwrap(), KEY);
    push.encryption = phrase.map(|phrase| (phrase, KeyLength::Aes256));
    let port = push.server.port();
    Line { world, push, port }
}

fn over_plain_srt() -> Line {
    over_srt(None)
}

fn over_sealed_srt() -> Line {
    over_srt(Some("steam and semaphores"))
}

#[rstest]
#[case::h264_interleaved(over_rtmp, "/summit/main", TransportChoice::Tcp, &[("rtsp", 60), ("rtp", 60), ("h264", 40), ("rtmpt", 60)])]
#[case::h264_datagrams(over_rtmp, "/summit/main", TransportChoice::Udp, &[("rtsp", 5), ("rtp", 200), ("rtcp", 4), ("rtmpt", 60)])]
#[case::h265_datagrams(over_rtmp, "/tunnel", TransportChoice::Udp, &[("rtsp", 5), ("rtp", 200), ("h265", 100), ("rtcp", 4), ("rtmpt", 60)])]
#[case::srt(over_plain_srt, "/summit/main", TransportChoice::Tcp, &[("srt.iscontrol == 0", 200), ("srt.type == 0", 4), ("srt.type == 2", 100), ("srt.type == 3", 2), ("srt.type == 6", 5)])]
#[case::sealed_srt(over_sealed_srt, "/summit/main", TransportChoice::Tcp, &[("srt.iscontrol == 0", 200), ("srt.type == 0", 4), ("srt.type == 2", 100)])]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn independent_analyzer_finds_nothing_malformed(
    #[case] line: fn() -> Line,
    #[case] path: &str,
    #[case] transport: TransportChoice,
    #[case] expected: &[(&str, usize)],
) {
    // Traffic of one test must not be in the capture of another.
    let _alone = CAPTURE_LOCK.lock().await;
    let codec = if path == "/tunnel" { "h265" } else { "h264" };
    let Line { world, push, port } = line();
    let ports = [world.camera.address().port(), port];
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("line.pcapng");
    let capture = tokio::task::spawn_blocking({
        let file = file.clone();
        move || Capture::start(&file, ports)
    });
    let mut capture = capture.await.unwrap();
    let mut feed = world.feed(path, PASSWORD);
    rtsp(&mut feed).transport = transport;
    world.engine.apply(RelaySpec {
        name: "relay".into(),
        feed,
        pushes: vec![push],
        hold: HoldSpec::default(),
        hls: false,
    });
    world.wait("sending for a while", 20, |view| view.pushes[0].frames_sent > 120).await;
    world.engine.shutdown().await;
    // The analyser writes what it has when it is interrupted, not when it is killed.
    let interrupt = Command::new("kill").args(["-INT", &capture.0.id().to_string()]).status().unwrap();
    assert!(interrupt.success());
    capture.0.wait().unwrap();

    let own = own_ports(&file, ports);
    let packets = |filter: &str| {
        let filter = format!("({filter}) && (tcp.port in {{{own}}} || udp.port in {{{own}}})");
        count(&file, ports, codec, &filter)
    };
    // Segments that hold each protocol; one may hold many packets, and more of them when the machine is busy. An ACKACK
    // mostly travels behind data in one segment that the system splits, where the analyser does not see it.
    for (protocol, least) in expected {
        let count = packets(protocol);
        assert!(count >= *least, "{count} packets of {protocol}");
    }
    assert_eq!(packets("_ws.malformed"), 0);
    assert_eq!(packets("_ws.expert.severity == error"), 0);
    let filter = format!("({PROTOCOL_WARNINGS}) && (tcp.port in {{{own}}} || udp.port in {{{own}}})");
    assert_eq!(fields(&file, ports, codec, &filter, "_ws.expert.message"), [""; 0]);
    // A message of an unknown kind would mean that the analyser lost its place among the chunks.
    assert_eq!(packets("rtmpt.header.typeid == 0"), 0);
}

/// An encoder publishes to a listener: what the listener answers is read as well.
#[rstest]
#[case::rtmp("rtmp", "tcp", &[("rtmpt", 60), ("rtmpt && tcp.srcport == PORT", 3)])]
#[case::srt("srt", "udp", &[("srt.iscontrol == 0", 200), ("srt.type == 2 && udp.srcport == PORT", 50), ("srt.type == 0", 4)])]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn independent_analyzer_finds_nothing_malformed_at_the_listeners(
    #[case] protocol: &str,
    #[case] transport: &str,
    #[case] expected: &[(&str, usize)],
) {
    let _alone = CAPTURE_LOCK.lock().await;
    let any = Some("127.0.0.1:0".parse().unwrap());
    let config =
        IngestConfig { rtmp: any, srt: any, latency: Duration::from_millis(200), ..IngestConfig::default() };
    let registry = IngestRegistry::default();
    let server = IngestServer::start(config, None, &registry).unwrap();
    let addresses = server.addresses();
    let address = if protocol == "rtmp" { addresses.rtmp } else { addresses.srt }.unwrap();
    let key = StreamKey::from_stored("bandstand-key".into());
    let (publishers, mut accepted) = mpsc::unbounded_channel();
    registry.set("feed", FeedAccess { keys: vec![key.clone()], passphrase: None, publishers });
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("ingest.pcapng");
    let ports = [1, address.port()];
    let capture = tokio::task::spawn_blocking({
        let file = file.clone();
        move || Capture::start(&file, ports)
    });
    let mut capture = capture.await.unwrap();
    let path = if protocol == "rtmp" { "/live" } else { "" };
    let encoder = Encoder::start(EncoderConfig {
        server: read_server(&format!("{protocol}://{address}{path}")).unwrap().0,
        key,
        encryption: None,
        media: Arc::new(World::start().media("/bandstand")),
    });
    let mut publisher = accepted.recv().await.unwrap();
    let received = async {
        let mut units = 0;
        while units < 300 {
            let message = publisher.messages.recv().await.unwrap();
            units += usize::from(matches!(message, PublisherMessage::Media(UnitEvent::Unit(_))));
        }
    };
    tokio::time::timeout(Duration::from_secs(20), received).await.unwrap();
    encoder.change(|faults| faults.off = true);
    // Until its end has arrived.
    while publisher.messages.recv().await.is_some() {}
    let interrupt = Command::new("kill").args(["-INT", &capture.0.id().to_string()]).status().unwrap();
    assert!(interrupt.success());
    capture.0.wait().unwrap();

    let port = address.port().to_string();
    let own = format!("{transport}.port == {port}");
    let packets =
        |filter: &str| count(&file, ports, "h264", &format!("({}) && {own}", filter.replace("PORT", &port)));
    for (filter, least) in expected {
        let count = packets(filter);
        assert!(count >= *least, "{count} packets of {filter}");
    }
    assert_eq!(packets("_ws.malformed"), 0);
    assert_eq!(packets("_ws.expert.severity == error"), 0);
    let warnings = format!("({PROTOCOL_WARNINGS}) && {own}");
    assert_eq!(fields(&file, ports, "h264", &warnings, "_ws.expert.message"), [""; 0]);
    assert_eq!(packets("rtmpt.header.typeid == 0"), 0);
}

#[rstest]
#[case::audio("/summit/main", "mpeg-pes", 300)]
#[case::reordered("/bandstand", "mpeg-pes", 300)]
#[case::h265("/tunnel", "mpeg-pes", 200)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn independent_analyzer_parses_our_transport_streams(
    #[case] path: &str,
    #[case] protocol: &str,
    #[case] least: usize,
) {
    let folder = tempfile::tempdir().unwrap();
    // The camera's own pictures, at a steady pace, through the writer that pushes use.
    let media = World::start().media(path);
    let headers = StreamHeaders {
        video: Some(media.video.clone()),
        audio: media.audio.as_ref().map(|audio| audio.config.clone()),
    };
    let mut muxer = Muxer::default();
    let mut stream = Vec::new();
    for (number, frame) in (0..300_i64).zip(media.frames.iter().cycle()) {
        let at = number * 3_600;
        let unit = AccessUnit {
            track: Track::Video,
            dts: at,
            pts: at
                + (frame.shown - number.rem_euclid(i64::try_from(media.frames.len()).unwrap())).max(0)
                    * 3_600,
            keyframe: frame.keyframe,
            payload: Payload::Nals(frame.nals.clone()),
        };
        stream.extend_from_slice(&muxer.write(&unit, &headers).bytes);
        if let Some(frame) = media.audio.as_ref().and_then(|audio| audio.frames.first()) {
            let payload = Payload::Frame(frame.clone());
            let unit = AccessUnit { track: Track::Audio, dts: at, pts: at, keyframe: true, payload };
            stream.extend_from_slice(&muxer.write(&unit, &headers).bytes);
        }
    }
    let file = folder.path().join("stream.ts");
    std::fs::write(&file, &stream).unwrap();
    let count = |filter: &str| count(&file, [1, 2], "h264", filter);
    assert_eq!(count("mp2t"), stream.len() / PACKET);
    assert!(count(protocol) >= least, "{} of {protocol}", count(protocol));
    assert!(count("mpeg_pat") > 50 && count("mpeg_pmt") > 50);
    assert_eq!(count("_ws.malformed"), 0);
    assert_eq!(count("_ws.expert.severity == error"), 0);
    assert_eq!(fields(&file, [1, 2], "h264", PROTOCOL_WARNINGS, "_ws.expert.message"), [""; 0]);
}
