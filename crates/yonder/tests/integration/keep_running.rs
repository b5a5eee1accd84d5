//! Faults at the joints: what comes back by itself is live again by itself, within its stated time and with no hand touching
//! it; and nothing that stops goes unseen.
//!
//! With `YONDER_LONG_TESTS` set, clocks run apart by 3 000 ppm for five minutes; without it, as far in less time.

use std::io::Write as _;
use std::net::TcpStream;
use std::os::unix::net::UnixDatagram;
use std::process::{Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use crate::support::{CAMERA_PASSWORD, KEY, Service, WAIT_TIMEOUT, World, text};
use rstest::rstest;
use rusqlite::Connection;
use yonder_sim::{Platform, PlatformConfig};

fn s(seconds: u64) -> Duration {
    Duration::from_secs(seconds)
}

fn running(service: &Service) -> World {
    let world = World::start();
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    world
}

fn wait_push(service: &Service, state: &str, patience: Duration) {
    service.wait_for("Line", state, patience, |relay| relay["pushes"][0]["state"] == state);
}

fn wait_feed(service: &Service, state: &str, patience: Duration) {
    service.wait_for("Line", state, patience, |relay| relay["feed"]["state"] == state);
}

fn frames_sent(service: &Service) -> u64 {
    service.frames_sent("Line")
}

/// Holds and resumes; the feed must be back at its next keyframe.
fn hold_and_resume(service: &Service) {
    service.must(&["relay", "hold", "Line"], "");
    wait_push(service, "holding", WAIT_TIMEOUT);
    service.flow("Line", 60);
    service.must(&["relay", "resume", "Line"], "");
    // The stand-in has a keyframe each second. The state is read by commands, which take their time on a busy machine.
    wait_push(service, "live", s(6));
    service.flow("Line", 30);
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);
}

#[test]
fn feed_returns_from_the_slate_though_its_keyframes_are_late() {
    let service = Service::start();
    let world = running(&service);
    world.camera.change(|faults| faults.keyframe_delay = Duration::from_millis(350));
    service.flow("Line", 75);
    hold_and_resume(&service);
    // A stall of the camera that is too short for a new connection.
    world.camera.change(|faults| faults.frozen = true);
    wait_push(&service, "holding", s(8));
    service.flow("Line", 20);
    world.camera.change(|faults| faults.frozen = false);
    wait_push(&service, "live", s(4));
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);
}

#[rstest]
#[case::fast(1)]
#[case::slow(-1)]
fn feed_returns_from_the_slate_though_its_clock_has_run_away(#[case] sign: i32) {
    let is_long = std::env::var_os("YONDER_LONG_TESTS").is_some();
    let (ppm, frames) = if is_long { (3_000, 7_500) } else { (45_000, 500) };
    let service = Service::start();
    let world = World::start();
    world.camera.change(|faults| faults.drift_ppm = sign * ppm);
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    service.flow("Line", frames);
    hold_and_resume(&service);
}

/// A recorder whose RTSP server is up before what is behind it, until `is_up` holds for the feed.
fn recorder_boots(status: u16, reason: &str, is_up: impl Fn(&serde_json::Value) -> bool) {
    let mut service = Service::start();
    let world = running(&service);
    // The record of what has worked is written every five seconds.
    service.flow("Line", 175);
    world.camera_off();
    wait_push(&service, "holding", s(10));
    world.camera.change(|faults| faults.refuses = Some((status, reason.to_owned())));
    // The power cut hits the service as well.
    service.kill();
    world.camera_on();
    service.start_again();
    wait_feed(&service, "waiting", s(10));
    service.wait_for("Line", "refused for long enough", s(60), |relay| {
        assert_ne!(relay["feed"]["state"], "blocked", "{relay:#}");
        is_up(&relay["feed"])
    });
    world.camera.change(|faults| faults.refuses = None);
    // Credentials are tried again after 65 s, anything else after five at most.
    wait_feed(&service, "flowing", s(65));
    wait_push(&service, "live", s(35));
}

fn platform_in_maintenance() {
    let service = Service::start();
    let world = running(&service);
    world.platform.change(|faults| {
        faults.refuses_app = Some("this application is being updated".to_owned());
        faults.resets += 1;
    });
    service.wait_attempts("Line", 5, s(90));
    let relay = service.relay("Line");
    assert_eq!(relay["pushes"][0]["cause"]["code"], "push.app-refused", "{relay:#}");
    assert!(relay["pushes"][0]["retry_in_s"].as_f64().unwrap() <= 30.0, "{relay:#}");
    world.platform.change(|faults| faults.refuses_app = None);
    wait_push(&service, "live", s(35));
}

fn backup_takes_over_from_a_server_in_maintenance() {
    let service = Service::start();
    let world = running(&service);
    let backup = world.inside(|| {
        let channels = vec![("one".to_owned(), KEY.into())];
        let config = PlatformConfig { app: "live".into(), channels, ..PlatformConfig::default() };
        Platform::start(config).unwrap()
    });
    // Editing a server that is not in use does not end the broadcast.
    let edit =
        ["destination", "edit", "Bramble", "--return-after", "10", "--backup-server", &backup.server()];
    service.must(&edit, "");
    service.flow("Line", 25);
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);
    world.platform.change(|faults| {
        faults.refuses_app = Some("this application is being updated".to_owned());
        faults.resets += 1;
    });
    let on_backup = |relay: &serde_json::Value| {
        relay["pushes"][0]["state"] == "live" && relay["pushes"][0]["server"] == "backup"
    };
    service.wait_for("Line", "live on the backup server", s(10), on_backup);
    // The server in maintenance can be reached, so that one return is attempted, and fails.
    let has_tried = |relay: &serde_json::Value| relay["pushes"][0]["reconnects"].as_u64() >= Some(2);
    service.wait_for("Line", "returned once", s(60), has_tried);
    service.wait_for("Line", "live on the backup server again", s(10), on_backup);
    service.flow("Line", 150);
    let relay = service.relay("Line");
    assert!(on_backup(&relay), "{relay:#}");
    assert_eq!(relay["pushes"][0]["reconnects"], 2, "the delay of the next return is longer: {relay:#}");
}

fn platform_says_bad_name() {
    let service = Service::start();
    let world = running(&service);
    world.platform.change(|faults| {
        faults.refuses_key = Some(String::new());
        faults.resets += 1;
    });
    service.wait_attempts("Line", 5, s(90));
    let relay = service.wait("Line", "waiting", |relay| relay["pushes"][0]["state"] == "waiting");
    assert_eq!(relay["pushes"][0]["cause"]["code"], "push.key-busy", "{relay:#}");
    world.platform.change(|faults| faults.refuses_key = None);
    wait_push(&service, "live", s(35));
}

#[test]
fn temporary_refusals_recover_without_intervention() {
    thread::scope(|scope| {
        scope.spawn(|| recorder_boots(404, "Not Found", |feed| feed["attempts"].as_u64() >= Some(6)));
        scope.spawn(|| {
            recorder_boots(401, "Unauthorized", |feed| feed["retry_in_s"].as_f64().is_some_and(|s| s < 50.0));
        });
        scope.spawn(platform_in_maintenance);
        scope.spawn(backup_takes_over_from_a_server_in_maintenance);
        scope.spawn(platform_says_bad_name);
    });
}

#[test]
fn standard_error_that_is_not_read_costs_no_frame() {
    let service = Service::start_with(|command| {
        command.env("YONDER_LOG", "trace").stderr(Stdio::piped());
    });
    let world = running(&service);
    // A pipe holds 64 KB.
    let before = frames_sent(&service);
    let began = Instant::now();
    let mut asked = 0;
    while frames_sent(&service) < before + 500 {
        assert!(began.elapsed() < s(22), "{asked} answers, {} frames", frames_sent(&service) - before);
        asked += 1;
        thread::sleep(Duration::from_millis(100));
    }
    assert!(asked > 20, "the API answers");
    assert!(service.unread_errors() > 60_000, "the pipe is full: {} bytes", service.unread_errors());
    let report = world.platform.report("one").unwrap();
    assert!(report.live && report.is_good(), "{report:?}");
}

/// Opens a preview over a WebSocket (RFC 6455, 4.1) and resets the connection a moment later.
fn open_and_reset_preview(service: &Service, token: &str, after: Duration) {
    let address = service.url().trim_start_matches("http://").to_owned();
    let mut stream = TcpStream::connect(&address).unwrap();
    let request = format!(
        "GET /api/v1/feeds/Viaduct/preview HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {token}\r\n\
         Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\n\
         Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    );
    stream.write_all(request.as_bytes()).unwrap();
    thread::sleep(after);
    let socket = socket2::Socket::from(stream);
    // Closing with a linger of zero resets.
    socket.set_linger(Some(Duration::ZERO)).unwrap();
}

#[test]
fn previews_opened_and_reset_by_the_hundred_leave_no_session_at_the_camera() {
    let service = Service::start();
    let world = World::start();
    service.set_up_line(&world);
    let token = service.token();
    for number in 0..500_u64 {
        open_and_reset_preview(&service, &token, Duration::from_micros(500 + number * 37 % 2_500));
    }
    let began = Instant::now();
    while world.camera.viewers() > 0 {
        assert!(began.elapsed() < s(20), "{} sessions are left", world.camera.viewers());
        thread::sleep(Duration::from_millis(100));
    }
    assert!(world.camera.sessions() > 0, "no preview reached the camera");
}

/// Socket of a stand-in service manager (`NOTIFY_SOCKET`).
struct Manager {
    socket: UnixDatagram,
    folder: tempfile::TempDir,
}

impl Manager {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let socket = UnixDatagram::bind(folder.path().join("notify")).unwrap();
        Self { socket, folder }
    }

    fn configure(&self, command: &mut Command) {
        command.env("NOTIFY_SOCKET", self.folder.path().join("notify")).env("WATCHDOG_USEC", "4000000");
    }

    /// Returns true when a ping came within `patience`.
    fn pinged(&self, patience: Duration) -> bool {
        let deadline = Instant::now() + patience;
        let mut message = [0; 256];
        while let Some(left) = deadline.checked_duration_since(Instant::now()).filter(|left| !left.is_zero())
        {
            self.socket.set_read_timeout(Some(left)).unwrap();
            match self.socket.recv(&mut message) {
                Ok(length) if text(&message[..length]).contains("WATCHDOG=1") => return true,
                _ => {}
            }
        }
        false
    }

    fn drain(&self) {
        self.socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        while self.socket.recv(&mut [0; 256]).is_ok() {}
    }
}

#[test]
fn blocked_media_thread_is_detected_within_ten_seconds() {
    let manager = Manager::new();
    let block = manager.folder.path().join("block");
    let service = Service::start_with(|command| {
        manager.configure(command);
        command.env("YONDER_TEST_BLOCK_MEDIA_THREAD", &block);
    });
    // The first feed runs on the first thread.
    let _world = running(&service);
    assert_eq!(service.readiness().0, 200);
    assert!(manager.pinged(s(3)));
    std::fs::write(&block, "").unwrap();
    let blocked = Instant::now();
    while service.readiness().0 != 503 && blocked.elapsed() < s(10) {
        thread::sleep(Duration::from_millis(100));
    }
    let (status, said) = service.readiness();
    assert_eq!(status, 503, "{said}");
    assert!(said.contains("a media thread has not run for"), "{said}");
    manager.drain();
    assert!(!manager.pinged(s(3)), "the service manager is still pinged");
    // Views and readiness report it as well.
    let relay = service.relay("Line");
    assert_eq!(relay["feed"]["state"], "stalled", "{relay:#}");
    service.wait_log("a media thread is blocked");
}

#[test]
fn watchdog_ignores_a_damaged_secret_and_a_locked_database() {
    let manager = Manager::new();
    let service = Service::start_with(|command| manager.configure(command));
    let _world = running(&service);
    let url = "rtsp://192.0.2.7/spare";
    service
        .must(&["feed", "add", "Spare", "--url", url, "--user", "rail", "--password-stdin"], CAMERA_PASSWORD);
    let records = Connection::open(service.home.path().join("yonder.db")).unwrap();
    records.busy_timeout(WAIT_TIMEOUT).unwrap();
    let sealed: Vec<u8> =
        records.query_row("SELECT password FROM feed WHERE name = 'Spare'", [], |row| row.get(0)).unwrap();
    let mut damaged = sealed;
    damaged[20] ^= 1;
    records.execute("UPDATE feed SET password = ?1 WHERE name = 'Spare'", [damaged]).unwrap();
    records.execute_batch("BEGIN EXCLUSIVE").unwrap();
    manager.drain();
    for _ in 0..6 {
        assert!(manager.pinged(s(2)), "the watchdog asks the records");
    }
    records.execute_batch("COMMIT").unwrap();
    service.flow("Line", 15);
}

#[test]
fn blocked_disk_stops_neither_media_nor_watchdog_nor_hold() {
    let manager = Manager::new();
    let hang = manager.folder.path().join("hang");
    let service = Service::start_with(|command| {
        manager.configure(command);
        command.env("YONDER_TEST_HANG_RECORDS", &hang);
    });
    let _world = running(&service);
    std::fs::write(&hang, "").unwrap();
    service.flow("Line", 50);
    let before = frames_sent(&service);
    manager.drain();
    for _ in 0..6 {
        assert!(manager.pinged(s(2)), "the watchdog waits for the disk");
    }
    assert!(frames_sent(&service) > before + 15);
    // The command waits for the records; the output is switched at once.
    let mut hold = service.begin(&["relay", "hold", "Line"]);
    service.wait("Line", "held", |relay| relay["pushes"][0]["state"] == "holding");
    let mut stop = service.begin(&["relay", "stop", "Line"]);
    service.wait("Line", "stopped", |relay| relay["pushes"][0]["state"] == "off");
    assert!(manager.pinged(s(3)));
    std::fs::remove_file(&hang).unwrap();
    for command in [&mut hold, &mut stop] {
        assert!(command.wait().unwrap().success());
    }
    assert_eq!(service.relay("Line")["wanted"], "off");
}

#[test]
fn backup_that_takes_half_a_minute_delays_nothing() {
    let manager = Manager::new();
    let hang = manager.folder.path().join("hang");
    std::fs::write(&hang, "").unwrap();
    let service = Service::start_with(|command| {
        manager.configure(command);
        command.env("YONDER_TEST_HANG_BACKUP", &hang);
    });
    let _world = running(&service);
    let out = manager.folder.path().join("copy.db");
    let mut backup = service.begin(&["backup", "--out", out.to_str().unwrap()]);
    let begun = Instant::now();
    let before = frames_sent(&service);
    manager.drain();
    while begun.elapsed() < s(30) {
        assert!(manager.pinged(s(2)), "the watchdog waits for the backup");
        // Changes are made meanwhile.
        service.must(&["relay", "edit", "Line", "--hold-after", "7s"], "");
    }
    assert!(frames_sent(&service) > before + 20 * 30, "media flows");
    assert!(backup.try_wait().unwrap().is_none());
    std::fs::remove_file(&hang).unwrap();
    assert!(backup.wait().unwrap().success());
    assert!(std::fs::read(&out).unwrap().starts_with(b"SQLite format 3"));
}

#[test]
fn two_hundred_feeds_and_a_silent_name_server_need_few_threads() {
    // It receives questions and answers none.
    let silent = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let server = silent.local_addr().unwrap().to_string();
    let mut service = Service::start();
    let mut book = "book = 1\n".to_owned();
    for number in 0..200 {
        book += &format!("[feed.\"Mast {number}\"]\nurl = \"rtsp://mast-{number}.example.net/main\"\n");
        book += &format!("[destination.\"Bramble {number}\"]\nserver = \"rtmp://192.0.2.8/live\"\n");
        book += &format!("key = {{ file = \"key-{number}\" }}\n");
        book +=
            &format!("[relay.\"Line {number}\"]\nfeed = \"Mast {number}\"\nto = [\"Bramble {number}\"]\n");
        service.file(&format!("key-{number}"), &format!("planted-key-number-{number}"));
    }
    let book = service.file("book.toml", &book);
    service.must(&["book", "apply", &book], "");
    assert!(service.stop());
    let records = Connection::open(service.home.path().join("yonder.db")).unwrap();
    records.execute("UPDATE relay SET wanted = 'on'", []).unwrap();
    drop(records);
    service.start_again_with(|command| {
        command.env("YONDER_NAME_SERVERS", &server);
    });
    let started = Instant::now();
    let code = loop {
        let status = std::fs::read_to_string(format!("/proc/{}/status", service.process())).unwrap();
        let threads: u32 =
            status.lines().find_map(|line| line.strip_prefix("Threads:")).unwrap().trim().parse().unwrap();
        assert!(threads < 80, "{threads} threads");
        let code = service.relay("Line 0")["feed"]["cause"]["code"].clone();
        if code == "feed.name-not-found" || started.elapsed() > s(30) {
            break code;
        }
        thread::sleep(Duration::from_millis(200));
    };
    assert_eq!(code, "feed.name-not-found");
    // It was asked, and not through the roof.
    silent.set_nonblocking(true).unwrap();
    let mut questions = 0;
    while silent.recv(&mut [0; 512]).is_ok() {
        questions += 1;
    }
    assert!(questions > 0);
}

#[test]
fn slate_is_sent_after_a_power_failure_without_the_camera() {
    let mut service = Service::start();
    let world = running(&service);
    // The keyframe is saved in the background.
    let slates = service.home.path().join("slates");
    let saved = Instant::now();
    while std::fs::read_dir(&slates).map_or(0, Iterator::count) == 0 {
        assert!(saved.elapsed() < WAIT_TIMEOUT, "the keyframe is not saved");
        thread::sleep(Duration::from_millis(20));
    }
    service.kill();
    world.camera_off();
    service.start_again();
    wait_push(&service, "holding", s(15));
    let relay = service.relay("Line");
    assert_eq!(relay["feed"]["state"], "waiting", "{relay:#}");
    world.camera_on();
    wait_push(&service, "live", s(10));
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);
    // A relay that is stopped on purpose starts with its feed, not with a slate of its last run.
    service.must(&["relay", "stop", "Line"], "");
    world.camera_off();
    service.must(&["relay", "start", "Line", "--force"], "");
    let relay = service.wait_for("Line", "reconnecting", s(20), |relay| {
        assert_ne!(relay["pushes"][0]["state"], "holding", "{relay:#}");
        relay["feed"]["attempts"].as_u64() >= Some(4)
    });
    assert_eq!(relay["pushes"][0]["state"], "waiting");
}

#[test]
fn unit_is_restarted_after_every_failure() {
    let unit = include_str!("../../../../packaging/yonder-relay.service");
    for line in ["StartLimitIntervalSec=0", "Restart=always", "After=network-online.target time-sync.target"]
    {
        assert!(unit.lines().any(|own| own == line), "{line} is missing");
    }
    // `StartLimitIntervalSec` belongs to the first section; elsewhere systemd ignores it.
    let (head, _) = unit.split_once("[Service]").unwrap();
    assert!(head.contains("StartLimitIntervalSec=0"));
}

#[test]
fn unit_is_hardened_and_leaves_no_core_dump() {
    let unit = concat!(env!("CARGO_MANIFEST_DIR"), "/../../packaging/yonder-relay.service");
    let analyzed =
        Command::new("systemd-analyze").args(["security", "--offline=true", "--no-pager", unit]).output();
    let report = text(&analyzed.expect("systemd-analyze is installed by `make setup`").stdout);
    let exposure = report.lines().find(|line| line.contains("Overall exposure level")).expect(&report);
    let level: f64 = exposure.rsplit(": ").next().unwrap().split(' ').next().unwrap().parse().unwrap();
    assert!(level < 2.0, "{exposure}");
    assert!(std::fs::read_to_string(unit).unwrap().lines().any(|line| line == "LimitCORE=0"));
}
