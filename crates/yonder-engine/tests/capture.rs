//! What goes over loopback, read by an independent protocol analyser: no malformed packet in RTSP, RTP, H.264
//! and RTMP.
//!
//! Needs Debian's package `tshark` and the right to capture; where either is missing the test says so and
//! passes.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod support;

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use rstest::rstest;
use support::{KEY, PASSWORD, World};
use tokio::sync::Mutex;
use yonder_engine::TransportChoice;

static ONE_AT_A_TIME: Mutex<()> = Mutex::const_new(());

/// Ends the capture whatever becomes of the test.
struct Capture(Child);

impl Capture {
    /// `None`, and a word about it, where nothing can be captured.
    fn start(file: &Path, ports: [u16; 2]) -> Option<Self> {
        // Datagrams go between ports that nobody knows beforehand.
        let filter = format!("tcp port {} or tcp port {} or udp portrange 10000-65535", ports[0], ports[1]);
        let mut child = Command::new("tshark")
            .args(["-i", "lo", "-s", "0", "-B", "64", "-w"])
            .arg(file)
            .args(["-f", &filter])
            .stderr(Stdio::piped())
            .spawn()
            .ok()?;
        let mut told = String::new();
        let said = BufReader::new(child.stderr.take()?).lines().map_while(Result::ok);
        for line in said {
            told += &line;
            if line.contains("Capturing on") {
                // The announcement comes a moment before the first packet can be seen, and before the refusal
                // of those who may not capture.
                std::thread::sleep(std::time::Duration::from_millis(700));
                if matches!(child.try_wait(), Ok(None)) {
                    return Some(Self(child));
                }
            }
        }
        say(&format!("skipped: tshark cannot capture here: {told}"));
        None
    }
}

impl Drop for Capture {
    fn drop(&mut self) {
        let _gone = (self.0.kill(), self.0.wait());
    }
}

#[expect(clippy::print_stdout, reason = "a skipped test must say so")]
fn say(text: &str) {
    println!("{text}");
}

/// Counts packets that a display filter selects.
fn packets(file: &Path, ports: [u16; 2], codec: &str, filter: &str) -> usize {
    let output = Command::new("tshark")
        .arg("-r")
        .arg(file)
        .args(["-d", &format!("tcp.port=={},rtsp", ports[0])])
        .args(["-d", &format!("tcp.port=={},rtmpt", ports[1])])
        // By default the analyser gives up on messages above 32 kB, which every keyframe is.
        .args(["-o", "rtmpt.max_packet_size:8388608", "-o", &format!("{codec}.dynamic.payload.type:96")])
        .args(["-Y", filter, "-T", "fields", "-e", "frame.number"])
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).lines().count()
}

#[rstest]
#[case::h264_interleaved("/summit/main", TransportChoice::Tcp, &[("rtsp", 200), ("rtp", 200), ("h264", 100), ("rtmpt", 200)])]
#[case::h264_datagrams("/summit/main", TransportChoice::Udp, &[("rtsp", 5), ("rtp", 200), ("rtcp", 4), ("rtmpt", 200)])]
#[case::h265_datagrams("/tunnel", TransportChoice::Udp, &[("rtsp", 5), ("rtp", 200), ("h265", 100), ("rtcp", 4), ("rtmpt", 200)])]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_independent_analyser_finds_nothing_malformed(
    #[case] path: &str,
    #[case] transport: TransportChoice,
    #[case] expected: &[(&str, usize)],
) {
    if !Command::new("tshark").arg("--version").output().is_ok_and(|output| output.status.success()) {
        say("skipped: tshark is not there; install the package tshark");
        return;
    }
    // What one test sends is not for the others to see.
    let _alone = ONE_AT_A_TIME.lock().await;
    let codec = if path == "/tunnel" { "h265" } else { "h264" };
    let world = World::start();
    let ports = [world.camera.address().port(), world.platform.address().port()];
    let folder = std::env::temp_dir().join(format!(
        "yonder-capture-{}-{}{transport:?}",
        std::process::id(),
        path.replace('/', "-")
    ));
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("line.pcapng");
    let capture = tokio::task::spawn_blocking({
        let file = file.clone();
        move || Capture::start(&file, ports)
    });
    let Some(mut capture) = capture.await.unwrap() else { return };
    let mut spec = world.relay(path, PASSWORD, &[KEY]);
    spec.feed.transport = transport;
    world.engine.apply(spec);
    world.wait("sending for a while", 20, |view| view.pushes[0].frames_sent > 120).await;
    world.engine.shutdown().await;
    // The analyser writes what it has when it is interrupted, not when it is killed.
    let interrupt = Command::new("kill").args(["-INT", &capture.0.id().to_string()]).status().unwrap();
    assert!(interrupt.success());
    capture.0.wait().unwrap();

    // Segments that hold each protocol; one may hold many packets.
    for (protocol, least) in expected {
        let count = packets(&file, ports, codec, protocol);
        assert!(count >= *least, "{count} packets of {protocol}");
    }
    assert_eq!(packets(&file, ports, codec, "_ws.malformed"), 0);
    assert_eq!(packets(&file, ports, codec, "_ws.expert.severity == error"), 0);
    // A message of an unknown kind would mean that the analyser lost its place among the chunks.
    assert_eq!(packets(&file, ports, codec, "rtmpt.header.typeid == 0"), 0);
    std::fs::remove_dir_all(&folder).unwrap();
}
