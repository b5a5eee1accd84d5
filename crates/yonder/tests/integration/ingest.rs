//! Encoders that publish to the service: every protocol, faults of the encoder, keys and their secrecy.

use std::io::Write as _;
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::Value;
use yonder_address::{KeyLength, Passphrase, StreamKey, read_server};
use yonder_sim::{Encoder, EncoderConfig, EncoderState, LoopMedia, SrtEncryption, railway_feeds};

use crate::support::{KEY, PASSPHRASE, Service, WAIT_TIMEOUT, World, text};

/// Key that encoders use in tests of secrecy.
const INGEST_KEY: &str = "planted-ingest-key-5W";

struct Site {
    service: Service,
    world: World,
}

impl Site {
    /// Starts a service with listeners for encoders, and a relay from the feed Field to a platform. `options` are those of the
    /// feed.
    fn start(options: &[&str]) -> Self {
        let service = Service::start_with(|command| {
            for option in ["--ingest-rtmp", "--ingest-rtmps", "--ingest-srt"] {
                command.args([option, "127.0.0.1:0"]);
            }
        });
        let world = World::start();
        let key = service.file("key", INGEST_KEY);
        let add = ["feed", "add", "Field", "--ingest", "--key-file", &key];
        service.must(&[&add[..], options].concat(), "");
        let server = world.platform.server();
        service.must(&["destination", "add", "Bramble", "--server", &server, "--key-stdin"], KEY);
        service.must(&["relay", "add", "Line", "--feed", "Field", "--to", "Bramble"], "");
        Self { service, world }
    }

    fn revealed(&self) -> Value {
        read(&self.service.must(&["feed", "reveal", "Field", "--json"], ""))
    }

    fn feed(&self) -> Value {
        read(&self.service.must(&["feed", "show", "Field", "--json"], ""))
    }

    /// Starts an encoder by `rtmp`, `rtmps` or `srt`.
    fn encoder(&self, protocol: &str, key: &str, encryption: Option<(&str, u16)>) -> Encoder {
        let access = self.revealed();
        let server = match protocol {
            // The key is given apart.
            "srt" => access["srt"]["address"].as_str().unwrap().split('?').next().unwrap().to_owned(),
            other => access[other]["server"].as_str().unwrap().to_owned(),
        };
        let encryption = encryption.map(|(text, bits)| SrtEncryption {
            passphrase: Passphrase::parse(text).unwrap(),
            key_length: KeyLength::from_bits(bits).unwrap(),
        });
        let config = EncoderConfig {
            server: read_server(&server).unwrap().0,
            key: StreamKey::from_stored(key.to_owned().into()),
            encryption,
            media: scene("Viaduct"),
        };
        self.world.inside(|| Encoder::start(config))
    }

    fn start_relay(&self) {
        self.service.must(&["relay", "start", "Line"], "");
        self.service.wait_live("Line");
    }

    fn wait_feed(&self, what: &str, wished: impl Fn(&Value) -> bool) -> Value {
        let deadline = Instant::now() + WAIT_TIMEOUT;
        loop {
            let feed = self.feed();
            if wished(&feed) {
                return feed;
            }
            assert!(Instant::now() < deadline, "not {what}: {feed:#}");
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    fn wait_state(&self, state: &str) -> Value {
        self.wait_feed(state, |feed| feed["state"] == state)
    }

    fn metric(&self, name: &str) -> u64 {
        let all = self.service.metrics();
        let line = all.lines().find(|line| line.starts_with(name));
        line.unwrap_or_else(|| panic!("no {name}: {all}")).rsplit(' ').next().unwrap().parse().unwrap()
    }
}

fn read(json: &str) -> Value {
    serde_json::from_str(json).unwrap()
}

/// Returns both outputs of a command.
fn text_of(output: &std::process::Output) -> String {
    text(&output.stdout) + &text(&output.stderr)
}

fn scene(name: &str) -> Arc<LoopMedia> {
    let feed = railway_feeds().into_iter().find(|feed| feed.name == name).unwrap();
    Arc::new(feed.main())
}

/// Waits until an encoder has failed, and returns the reason.
fn failure(encoder: &Encoder) -> String {
    let deadline = Instant::now() + WAIT_TIMEOUT;
    loop {
        if let EncoderState::Failed(reason) = encoder.state() {
            return reason;
        }
        assert!(Instant::now() < deadline, "the encoder is {:?}", encoder.state());
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[rstest]
#[case::rtmp("rtmp", None)]
#[case::rtmps("rtmps", None)]
#[case::srt("srt", None)]
#[case::srt_encrypted("srt", Some(256))]
fn published_feed_reaches_the_platform(#[case] protocol: &str, #[case] bits: Option<u16>) {
    let site = Site::start(&[]);
    if let Some(bits) = bits {
        let phrase = site.service.file("phrase", &format!("{PASSPHRASE}\n"));
        let bits = bits.to_string();
        site.service
            .must(&["feed", "edit", "Field", "--passphrase-file", &phrase, "--key-length", &bits], "");
    }
    let before = site.feed();
    assert_eq!((before["state"].as_str(), before["publisher"].is_null()), (Some("waiting"), true));
    let encoder = site.encoder(protocol, INGEST_KEY, bits.map(|bits| (PASSPHRASE, bits)));
    let feed = site.wait_state("flowing");
    assert_eq!(feed["publisher"]["protocol"], protocol);
    assert_eq!(feed["publisher"]["encrypted"], protocol == "rtmps" || bits.is_some());
    // Measured once a second.
    site.wait_feed("measured", |feed| feed["publisher"]["rtt_ms"].is_null() == (protocol != "srt"));
    site.start_relay();
    site.service.flow("Line", 75);
    encoder.change(|faults| faults.off = true);
    site.wait_state("waiting");
    let relay = site.service.relay("Line");
    assert_eq!(relay["feed"]["cause"]["code"], "feed.publisher-ended");
    site.service.must(&["relay", "stop", "Line"], "");
    let report = site.world.platform.report("one").unwrap();
    assert!(report.is_good() && report.pictures > 70, "{report:?}");
}

#[test]
fn relay_holds_while_the_encoder_is_away_and_is_live_at_once_when_it_returns() {
    let site = Site::start(&[]);
    site.service.must(&["relay", "edit", "Line", "--hold-after", "1s"], "");
    let encoder = site.encoder("rtmp", INGEST_KEY, None);
    site.wait_state("flowing");
    site.start_relay();
    site.service.flow("Line", 25);
    encoder.change(|faults| faults.frozen = true);
    let is_holding = |relay: &Value| relay["pushes"][0]["state"] == "holding";
    let relay = site.service.wait("Line", "holding", is_holding);
    assert_eq!(relay["feed"]["state"], "stalled");
    // Longer than a publisher may be silent before another one takes over.
    std::thread::sleep(Duration::from_secs(4));
    encoder.change(|faults| faults.frozen = false);
    site.service.wait_live("Line");
    // The connection breaks: the encoder is back after half a second.
    let since = site.feed()["publisher"]["since"].clone();
    encoder.change(|faults| faults.resets += 1);
    let feed = site.wait_feed("published again", |feed| {
        feed["publisher"]["since"].is_string() && feed["publisher"]["since"] != since
    });
    let back = Instant::now();
    assert_eq!(feed["publisher"]["protocol"], "rtmp");
    site.wait_state("flowing");
    site.service.wait_live("Line");
    assert!(back.elapsed() < Duration::from_millis(1_500), "{:?}", back.elapsed());
    site.service.flow("Line", 25);
    let relay = site.service.relay("Line");
    assert_eq!(relay["pushes"][0]["reconnects"], 0, "{relay:#}");
}

#[rstest]
#[case::forward(10_000)]
#[case::backward(-10_000)]
fn timestamps_that_jump_do_not_end_the_broadcast(#[case] milliseconds: i64) {
    let site = Site::start(&[]);
    let encoder = site.encoder("rtmp", INGEST_KEY, None);
    site.wait_state("flowing");
    site.start_relay();
    site.service.flow("Line", 50);
    encoder.change(|faults| faults.moved_ms = milliseconds);
    site.service.flow("Line", 100);
    let relay = site.service.relay("Line");
    assert_eq!(
        (relay["pushes"][0]["state"].as_str(), relay["pushes"][0]["reconnects"].as_u64()),
        (Some("live"), Some(0))
    );
}

#[test]
fn another_size_over_the_same_connection_reaches_the_platform() {
    let site = Site::start(&[]);
    let encoder = site.encoder("rtmp", INGEST_KEY, None);
    site.wait_state("flowing");
    site.start_relay();
    site.service.flow("Line", 25);
    assert_eq!(site.service.relay("Line")["feed"]["video"]["height"], 720);
    encoder.change(|faults| faults.media = Some(scene("Bandstand")));
    site.service.wait("Line", "of the new size", |relay| relay["feed"]["video"]["height"] == 1_080);
    site.service.flow("Line", 50);
    assert_eq!(site.feed()["state"], "flowing");
}

#[test]
fn second_encoder_is_refused_until_the_first_one_is_silent() {
    let site = Site::start(&[]);
    let first = site.encoder("rtmp", INGEST_KEY, None);
    let before = site.wait_state("flowing")["publisher"]["address"].clone();
    let second = site.encoder("rtmp", INGEST_KEY, None);
    failure(&second);
    assert_eq!(site.feed()["publisher"]["address"], before);
    assert!(site.metric("yonder_ingest_refused_total{reason=\"busy\"}") > 0);
    first.change(|faults| faults.frozen = true);
    site.wait_feed("taken over", |feed| {
        feed["state"] == "flowing"
            && feed["publisher"]["address"].is_string()
            && feed["publisher"]["address"] != before
    });
    drop(first);
    assert_eq!(site.metric("yonder_ingest_publishers"), 1);
}

#[test]
fn wrong_keys_are_counted_logged_and_raise_an_alert() {
    let site = Site::start(&[]);
    site.service.must(&["alert", "add", "Guessing", "--when", "wrong-keys"], "");
    let encoders: Vec<Encoder> = (0..3).map(|_| site.encoder("rtmp", "planted-wrong-key-4V", None)).collect();
    assert!(failure(&encoders[0]).contains("BadName"), "{}", failure(&encoders[0]));
    site.service.wait_log("an encoder has a wrong stream key");
    let deadline = Instant::now() + WAIT_TIMEOUT;
    loop {
        let alerts = read(&site.service.must(&["alert", "list", "--json"], ""));
        if alerts.to_string().contains("wrong stream key or passphrase were refused") {
            break;
        }
        assert!(Instant::now() < deadline, "{alerts:#}");
        std::thread::sleep(Duration::from_millis(100));
    }
    assert!(site.metric("yonder_ingest_refused_total{reason=\"wrong-key\"}") >= 5);
    // The logbook has one line for all of some seconds.
    let logbook = loop {
        let logbook = site.service.must(&["logbook"], "");
        if logbook.contains("with a wrong stream key or passphrase, the last from 127.0.0.1") {
            break logbook;
        }
        assert!(Instant::now() < deadline, "{logbook}");
        std::thread::sleep(Duration::from_millis(100));
    };
    assert!(!logbook.contains("planted-wrong-key") && !site.service.log().contains("planted-wrong-key"));
}

#[rstest]
#[case::wrong(Some("planted-other-phrase-3U"))]
#[case::missing(None)]
fn encoder_with_a_wrong_passphrase_is_refused(#[case] phrase: Option<&str>) {
    let site = Site::start(&[]);
    let file = site.service.file("phrase", PASSPHRASE);
    site.service.must(&["feed", "edit", "Field", "--passphrase-file", &file], "");
    let encoder = site.encoder("srt", INGEST_KEY, phrase.map(|phrase| (phrase, 128)));
    failure(&encoder);
    assert_eq!(site.feed()["state"], "waiting");
    // An empty file removes it.
    let empty = site.service.file("empty", "\n");
    site.service.must(&["feed", "edit", "Field", "--passphrase-file", &empty], "");
    let _open = site.encoder("srt", INGEST_KEY, None);
    site.wait_state("flowing");
}

#[test]
fn former_key_is_valid_during_its_grace_period_only() {
    let site = Site::start(&[]);
    let encoder = site.encoder("rtmp", INGEST_KEY, None);
    site.wait_state("flowing");
    let feed = site.service.must(&["feed", "rekey", "Field", "--grace", "1h", "--json"], "");
    assert!(read(&feed)["ingest"]["former_key_until"].is_string(), "{feed}");
    let new = site.revealed()["key"].as_str().unwrap().to_owned();
    assert_ne!(new, INGEST_KEY);
    encoder.change(|faults| faults.resets += 1);
    std::thread::sleep(Duration::from_millis(300));
    site.wait_state("flowing");
    // Without a grace period neither the former key nor the one before it is valid.
    site.service.must(&["feed", "rekey", "Field"], "");
    assert_eq!(site.feed()["state"], "flowing", "a running encoder stays");
    encoder.change(|faults| faults.resets += 1);
    assert!(failure(&encoder).contains("not known"), "{}", failure(&encoder));
    let last = site.revealed()["key"].as_str().unwrap().to_owned();
    encoder.change(|faults| faults.key = Some(StreamKey::from_stored(last.into())));
    site.wait_state("flowing");
}

#[test]
fn encoder_returns_after_a_restart_of_the_service() {
    let mut site = Site::start(&[]);
    let port = |service: &Service| {
        let text = std::fs::read_to_string(service.home.path().join("service.json")).unwrap();
        read(&text)["ingest"]["rtmp"].as_str().unwrap().split(':').next_back().unwrap().replace("/live", "")
    };
    let _encoder = site.encoder("rtmp", INGEST_KEY, None);
    site.wait_state("flowing");
    site.start_relay();
    let listen = format!("127.0.0.1:{}", port(&site.service));
    site.service.kill();
    site.service.start_again_with(|command| {
        command.args(["--ingest-rtmp", &listen]);
    });
    site.service.wait_live("Line");
    site.service.flow("Line", 25);
}

#[test]
fn listener_that_cannot_be_started_ends_the_service_with_its_address() {
    let site = Site::start(&[]);
    let run = |command: &mut std::process::Command| {
        let output = crate::support::output(command);
        (output.status.code(), text(&output.stderr))
    };
    let rtmp =
        site.revealed()["rtmp"]["server"].as_str().unwrap().replace("rtmp://", "").replace("/live", "");
    let home = tempfile::tempdir().unwrap();
    let mut command = std::process::Command::new(crate::support::program());
    command.args(["serve", "--listen", "127.0.0.1:0", "--ingest-rtmp", &rtmp, "--home"]).arg(home.path());
    let (code, errors) = run(&mut command);
    assert_ne!(code, Some(0));
    assert!(errors.contains(&rtmp) && errors.contains("in use"), "{errors}");
}

/// Bytes of a peer that completes the RTMP handshake and begins messages that it does not end, on many chunk streams.
fn endless_messages() -> Vec<u8> {
    let mut bytes = vec![3_u8; 1 + 2 * 1_536];
    for id in 3..40_u8 {
        // Type 0 header (5.3.1.2): timestamp 0, length 65 536, AMF0 command, message stream 0; one chunk of 128 bytes.
        bytes.extend_from_slice(&[id, 0, 0, 0, 1, 0, 0, 20, 0, 0, 0, 0]);
        bytes.extend_from_slice(&[id; 128]);
    }
    bytes
}

/// Connects from an address of its own out of 127.0.0.0/8, so that the limit of one address does not protect the service.
fn connect_from(at: u8, to: SocketAddr) -> TcpStream {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
    socket.bind(&SocketAddr::from(([127, 0, 7, at], 0)).into()).unwrap();
    socket.connect(&to.into()).unwrap();
    socket.into()
}

#[test]
fn hostile_peers_take_bounded_memory_and_disturb_no_push() {
    let site = Site::start(&[]);
    let encoder = site.encoder("rtmp", INGEST_KEY, None);
    site.wait_state("flowing");
    site.start_relay();
    site.service.flow("Line", 50);
    let before = site.service.resident_bytes();
    let access = site.revealed();
    let rtmp = access["rtmp"]["server"].as_str().unwrap();
    let rtmp: SocketAddr = rtmp.trim_start_matches("rtmp://").trim_end_matches("/live").parse().unwrap();
    let srt = access["srt"]["address"].as_str().unwrap().trim_start_matches("srt://");
    let srt = srt.split('?').next().unwrap();

    // A thousand connections: silent ones, and some that begin messages without an end.
    let endless = endless_messages();
    let peers: Vec<TcpStream> = (0..1_000_u32)
        .map(|at| {
            let mut peer = connect_from(u8::try_from(at % 250).unwrap() + 1, rtmp);
            if at % 2 == 0 {
                // The service closes connections over its limit.
                let _closed = peer.write_all(&endless);
            }
            peer
        })
        .collect();
    // Induction requests (3.2.1 of the SRT draft) with changing socket IDs.
    let flood = UdpSocket::bind("127.0.0.1:0").unwrap();
    for at in 0..20_000_u32 {
        let mut datagram = vec![0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
        datagram.extend_from_slice(&[0, 0, 0, 4, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 5, 0xdc, 0, 0, 0x20, 0]);
        datagram.extend_from_slice(&[0, 0, 0, 1]);
        datagram.extend_from_slice(&at.to_be_bytes());
        datagram.extend_from_slice(&[0; 20]);
        let _unused = flood.send_to(&datagram, srt);
    }
    site.service.flow("Line", 50);
    let grown = site.service.resident_bytes().saturating_sub(before);
    crate::support::say(&format!("hostile peers: {} MB more\n", grown / 1_000_000));
    assert!(grown < 48_000_000, "{grown} bytes");
    assert!(site.metric("yonder_ingest_refused_total{reason=\"over-limit\"}") > 700);
    assert_eq!(site.metric("yonder_ingest_publishers"), 1);
    drop(peers);
    site.service.flow("Line", 25);
    drop(encoder);
    site.wait_state("waiting");
    site.service.must(&["relay", "stop", "Line"], "");
    let report = site.world.platform.report("one").unwrap();
    assert!(report.is_good(), "{report:?}");
}

#[test]
fn keys_of_encoders_appear_nowhere_but_where_they_are_revealed() {
    let site = Site::start(&[]);
    let file = site.service.file("phrase", PASSPHRASE);
    site.service.must(&["feed", "edit", "Field", "--passphrase-file", &file], "");
    let _encoder = site.encoder("srt", INGEST_KEY, Some((PASSPHRASE, 128)));
    site.wait_state("flowing");
    for command in [
        &["feed", "show", "Field"][..],
        &["feed", "list", "--json"],
        &["book", "export"],
        &["audit", "--json"],
        &["status"],
        &["selfcheck"],
    ] {
        let printed = site.service.must(command, "");
        for secret in [INGEST_KEY, PASSPHRASE] {
            assert!(!printed.contains(secret), "{command:?}: {printed}");
        }
    }
    assert!(site.service.must(&["audit"], "").contains("key-revealed feed Field"));
    let printed = site.service.must(&["feed", "reveal", "Field"], "");
    assert!(printed.contains(INGEST_KEY) && printed.contains(PASSPHRASE), "{printed}");
    let home = site.service.home.path();
    let stored = |path: &Path| std::fs::read(path).unwrap();
    for name in ["yonder.db", "yonder.db-wal", "log.txt", "out.txt", "service.json"] {
        let bytes = stored(&home.join(name));
        for secret in [INGEST_KEY, PASSPHRASE] {
            assert!(!bytes.windows(secret.len()).any(|window| window == secret.as_bytes()), "{name}");
        }
    }
}

#[test]
fn published_feeds_are_renamed_removed_and_written_to_a_site_book() {
    let site = Site::start(&[]);
    site.service.must(&["feed", "edit", "Field", "--rename", "Meadow", "--key-length", "192"], "");
    let refused = site.service.run(&["feed", "edit", "Meadow", "--url", "rtsp://192.0.2.7/main"]);
    assert!(text(&refused.stderr).contains("encoders publish to this feed"), "{refused:?}");
    let refused = site.service.run(&["feed", "remove", "Meadow"]);
    assert!(text(&refused.stderr).contains("Line"), "{refused:?}");
    // The service finds the feed of an encoder by its key.
    let key = site.service.file("key", INGEST_KEY);
    let refused = site.service.run(&["feed", "add", "Other", "--ingest", "--key-file", &key]);
    assert!(text(&refused.stderr).contains("has this stream key"), "{refused:?}");
    let book = site.service.must(&["book", "export"], "");
    assert!(book.contains("ingest = true") && book.contains("key_length = 192"), "{book}");
    let file = site.service.file("book.toml", &book.replace("key_length = 192", "key_length = 256"));
    site.service.must(&["book", "apply", &file], "");
    let feed = read(&site.service.must(&["feed", "show", "Meadow", "--json"], ""));
    assert_eq!(feed["ingest"]["key_length"], 256);
    let revealed = read(&site.service.must(&["feed", "reveal", "Meadow", "--json"], ""));
    assert_eq!(revealed["key"], INGEST_KEY, "a key that is not in the book is kept");
    // Neither kind of feed becomes the other one.
    let with_url = book.replace("ingest = true", "ingest = true\nurl = \"rtsp://192.0.2.7/main\"");
    let pulled = "book = 1\n[feed.Yard]\nurl = \"rtsp://192.0.2.7/main\"\n";
    let file = site.service.file("yard.toml", pulled);
    site.service.must(&["book", "apply", &file], "");
    let published = "book = 1\n[feed.Yard]\ningest = true\n";
    for (text, expected) in
        [(with_url.as_str(), "encoders publish to this feed"), (published, "is pulled from a camera")]
    {
        let file = site.service.file("other.toml", text);
        let refused = site.service.run(&["book", "apply", &file]);
        assert!(text_of(&refused).contains(expected), "{refused:?}");
    }
    site.service.must(&["feed", "remove", "Yard"], "");
    site.service.must(&["relay", "remove", "Line"], "");
    site.service.must(&["feed", "remove", "Meadow"], "");
    assert_eq!(site.service.must(&["feed", "list", "--json"], "").trim(), "[]");
}

/// A site pushes by SRT to another instance, which pushes to the platform: the audio stays in step.
#[rstest]
#[case::srt("srt")]
#[case::rtmp("rtmp")]
fn relay_of_one_instance_is_the_feed_of_another(#[case] protocol: &str) {
    let center = Site::start(&[]);
    let site = Service::start();
    let url = center.world.camera.url("/summit/main");
    site.must(
        &["feed", "add", "Summit", "--url", &url, "--user", "rail", "--password-stdin"],
        crate::support::CAMERA_PASSWORD,
    );
    let access = center.revealed();
    let server = match protocol {
        "srt" => access["srt"]["address"].as_str().unwrap().split('?').next().unwrap().to_owned(),
        other => access[other]["server"].as_str().unwrap().to_owned(),
    };
    site.must(&["destination", "add", "Center", "--server", &server, "--key-stdin"], INGEST_KEY);
    site.must(&["relay", "add", "Up", "--feed", "Summit", "--to", "Center"], "");
    site.must(&["relay", "start", "Up"], "");
    site.wait_live("Up");
    center.wait_state("flowing");
    center.start_relay();
    center.service.flow("Line", 150);
    let feed = center.service.relay("Line")["feed"].clone();
    assert_eq!(
        (feed["video"]["codec"].as_str(), feed["audio"]["codec"].as_str()),
        (Some("H.264"), Some("AAC"))
    );
    center.service.must(&["relay", "stop", "Line"], "");
    let report = center.world.platform.report("one").unwrap();
    assert!(report.is_good() && report.audio_frames > 200, "{report:?}");
}
