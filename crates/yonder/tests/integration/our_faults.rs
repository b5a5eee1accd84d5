//! Faults of our own machine: a full disk, no file descriptors left, records that are locked or damaged.

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::support;
use crate::support::{Service, SmallDisk, WAIT_TIMEOUT, World, fill_disk, text};
use rusqlite::Connection;

fn running(service: &Service) -> World {
    let world = World::start();
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line", "--force"], "");
    service.wait_live("Line");
    world
}

#[test]
fn full_disk_refuses_changes_while_broadcasts_continue() {
    let mut service = Service::start();
    assert!(service.stop());
    let home = service.home.path().to_owned();
    let _disk = SmallDisk::mount(&home);
    service.start_again();
    let _world = running(&service);
    let filler = fill_disk(&home);

    let refused = service.run(&["relay", "edit", "Line", "--hold-after", "9s"]);
    assert_eq!(refused.status.code(), Some(1));
    let said = text(&refused.stderr);
    assert!(said.contains("full"), "{said}");
    service.flow("Line", 50);
    let relay = service.relay("Line");
    assert_eq!((&relay["pushes"][0]["state"], &relay["hold_after_s"]), (&"live".into(), &3.into()));

    fs::remove_file(&filler).unwrap();
    service.must(&["relay", "edit", "Line", "--hold-after", "9s"], "");
    service.kill();
    service.start_again();
    assert_eq!(service.relay("Line")["hold_after_s"], 9);
    service.wait_live("Line");
    service.kill();
}

#[test]
fn on_a_full_disk_relays_are_held_and_stopped_and_people_sign_in() {
    let mut service = Service::start();
    assert!(service.stop());
    let home = service.home.path().to_owned();
    let _disk = SmallDisk::mount(&home);
    service.start_again();
    let _world = running(&service);
    let invited = service.must(&["person", "invite", "Night desk", "--role", "operator"], "");
    let code = invited.rsplit_once("/join#").unwrap().1.trim().to_owned();
    let post = |path: &str, body: &serde_json::Value| {
        let request = ureq::post(format!("{}/api/v1/{path}", service.url()));
        request.header("Content-Type", "application/json").send(body.to_string().as_str()).unwrap()
    };
    let password = "a lamp in the window";
    post("invitations/join", &serde_json::json!({ "code": code, "password": password }));
    let filler = fill_disk(&home);

    service.must(&["relay", "hold", "Line"], "");
    let held = service.wait("Line", "held", |relay| relay["pushes"][0]["state"] == "holding");
    assert_eq!((&held["wanted"], &held["wanted_unsaved"]), (&"hold".into(), &true.into()));
    let shown = service.must(&["status"], "");
    assert!(shown.contains("not saved"), "{shown}");
    // Space released by the failed write may suffice for a small one.
    fill_disk(&home);
    service.must(&["relay", "stop", "Line"], "");
    let stopped = service.relay("Line");
    assert_eq!((&stopped["wanted"], &stopped["pushes"][0]["state"]), (&"off".into(), &"off".into()));

    let signed_in = post("session", &serde_json::json!({ "name": "Night desk", "password": password }));
    let cookie = signed_in.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let seen = ureq::get(format!("{}/api/v1/relays/Line", service.url())).header("Cookie", cookie).call();
    assert_eq!(seen.unwrap().status(), 200);

    fs::remove_file(&filler).unwrap();
    service.wait("Line", "stored", |relay| relay["wanted_unsaved"] == false);
    // The audit entries have been stored as well.
    let deadline = Instant::now() + WAIT_TIMEOUT;
    while !["held relay Line", "stopped relay Line"]
        .iter()
        .all(|entry| service.must(&["audit", "--about", "Line"], "").contains(entry))
    {
        assert!(Instant::now() < deadline, "{}", service.must(&["audit"], ""));
        std::thread::sleep(Duration::from_millis(200));
    }
    let entries: serde_json::Value =
        serde_json::from_str(&service.must(&["audit", "--about", "Line", "--json"], "")).unwrap();
    let change = |before: &str, after: &str| serde_json::json!([{ "field": "wanted", "before": before, "after": after }]);
    assert_eq!(entries[0]["fields"], change("hold", "off"), "{entries}");
    assert_eq!(entries[1]["fields"], change("on", "hold"), "{entries}");
    assert_eq!(entries[0]["id"], held["id"], "{entries}");
    service.kill();
    service.start_again();
    assert_eq!(service.relay("Line")["wanted"], "off");
    service.kill();
}

#[test]
fn output_that_cannot_be_written_is_a_failure_and_a_closed_pipe_is_none() {
    let service = Service::start();
    let status = |out: std::process::Stdio| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_yonder"));
        command.arg("--home").arg(service.home.path()).args(["status", "--json"]);
        command.stdout(out).stderr(std::process::Stdio::piped());
        support::output_of(command.spawn().unwrap())
    };
    let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let failed = status(full.into());
    assert_eq!(failed.status.code(), Some(1));
    assert!(text(&failed.stderr).contains("\"output.failed\""), "{}", text(&failed.stderr));
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    assert!(status(writer.into()).status.success());
}

fn set_file_limit(process: u32, limit: usize) {
    // The soft limit alone: the hard limit belongs to the parent process.
    let set = format!("--nofile={limit}:");
    let done = Command::new("prlimit").args(["--pid", &process.to_string(), &set]).output().unwrap();
    assert!(done.status.success(), "{}", text(&done.stderr));
}

#[test]
fn service_recovers_from_exhausted_file_descriptors() {
    let service = Service::start();
    let world = running(&service);
    let process = service.process();
    let open = fs::read_dir(format!("/proc/{process}/fd")).unwrap().count();
    set_file_limit(process, open.saturating_sub(2));
    world.camera_off();
    world.camera_on();
    // No connection can be accepted or made.
    service.wait_log("Too many open files");
    assert!(!service.run(&["status"]).status.success());
    set_file_limit(process, 4_096);
    let deadline = Instant::now() + WAIT_TIMEOUT;
    while !service.run(&["status"]).status.success() {
        assert!(Instant::now() < deadline, "the service does not let anybody in");
        std::thread::sleep(Duration::from_millis(100));
    }
    service.wait_live("Line");
    assert!(service.must(&["selfcheck"], "").contains("The records are sound."));
}

#[test]
fn locked_records_delay_changes_while_broadcasts_continue() {
    let service = Service::start();
    let _world = running(&service);
    let records = Connection::open(service.home.path().join("yonder.db")).unwrap();
    records.execute_batch("BEGIN IMMEDIATE").unwrap();
    let refused = service.run(&["relay", "edit", "Line", "--hold-after", "9s"]);
    assert_eq!(refused.status.code(), Some(1), "{}", text(&refused.stderr));
    assert!(text(&refused.stderr).contains("locked"), "{}", text(&refused.stderr));
    assert_eq!(service.relay("Line")["pushes"][0]["state"], "live");
    records.execute_batch("ROLLBACK").unwrap();
    service.must(&["relay", "edit", "Line", "--hold-after", "9s"], "");
}

#[test]
fn while_the_records_are_locked_a_relay_is_held_at_once_and_stopped() {
    let service = Service::start();
    let _world = running(&service);
    let records = Connection::open(service.home.path().join("yonder.db")).unwrap();
    records.execute_batch("BEGIN IMMEDIATE").unwrap();
    std::thread::scope(|scope| {
        // The command waits for the records; the output does not.
        let begun = Instant::now();
        let hold = scope.spawn(|| service.must(&["relay", "hold", "Line"], ""));
        service.wait("Line", "held", |relay| relay["pushes"][0]["state"] == "holding");
        assert!(
            !hold.is_finished(),
            "it was held after {:?}, once the records were given up",
            begun.elapsed()
        );
        hold.join().unwrap();
    });
    assert_eq!(service.relay("Line")["wanted_unsaved"], true);
    service.must(&["relay", "stop", "Line"], "");
    let stopped = service.relay("Line");
    assert_eq!((&stopped["wanted"], &stopped["wanted_unsaved"]), (&"off".into(), &true.into()));
    records.execute_batch("ROLLBACK").unwrap();
    service.wait("Line", "stored", |relay| relay["wanted_unsaved"] == false);
}

#[test]
fn damaged_records_keep_the_service_from_starting_with_the_next_step() {
    let mut service = Service::start();
    assert!(service.stop());
    let records = service.home.path().join("yonder.db");
    let log = fs::metadata(service.home.path().join("yonder.db-wal")).map_or(0, |facts| facts.len());
    assert_eq!(log, 0, "an orderly end leaves everything in the file itself");
    fs::write(&records, vec![0x5a; 20_000]).unwrap();
    let mut program = Command::new(support::program());
    program.args(["serve", "--listen", "127.0.0.1:0", "--home"]).arg(service.home.path());
    let started = support::output(&mut program);
    assert_eq!(started.status.code(), Some(1));
    let said = text(&started.stderr);
    assert!(said.contains("yonder restore"), "{said}");
    assert_eq!(fs::read(&records).unwrap(), vec![0x5a; 20_000], "nothing was written over it");
}

/// Flips a bit of a sealed secret, as a failing disk does.
fn damage(service: &Service, column: &str, table: &str, name: &str) {
    let records = Connection::open(service.home.path().join("yonder.db")).unwrap();
    records.busy_timeout(WAIT_TIMEOUT).unwrap();
    let read = format!("SELECT {column} FROM {table} WHERE name = ?1");
    let mut sealed: Vec<u8> = records.query_row(&read, [name], |row| row.get(0)).unwrap();
    sealed[30] ^= 1;
    let write = format!("UPDATE {table} SET {column} = ?2 WHERE name = ?1");
    records.execute(&write, rusqlite::params![name, sealed]).unwrap();
}

#[test]
fn a_damaged_password_blocks_its_feed_alone_until_it_is_set_again() {
    let mut service = Service::start();
    let world = running(&service);
    let url = world.camera.url("/summit/main");
    let password = support::CAMERA_PASSWORD;
    service.must(&["feed", "add", "Summit", "--url", &url, "--user", "rail", "--password-stdin"], password);
    let server = world.platform.server();
    service.must(&["destination", "add", "Thistle", "--server", &server, "--key-stdin"], support::SECOND_KEY);
    service.must(&["relay", "add", "Second", "--feed", "Summit", "--to", "Thistle"], "");
    service.must(&["relay", "start", "Second", "--force"], "");
    service.wait_live("Second");
    assert!(service.stop());
    damage(&service, "password", "feed", "Summit");
    service.start_again();
    let blocked = service.wait("Second", "blocked", |relay| relay["feed"]["state"] == "blocked");
    assert_eq!(blocked["feed"]["cause"]["code"], "feed.secret-lost");
    service.wait_live("Line");
    let feeds: serde_json::Value =
        serde_json::from_str(&service.must(&["feed", "list", "--json"], "")).unwrap();
    let lost: Vec<_> = feeds.as_array().unwrap().iter().map(|feed| &feed["secret_lost"]).collect();
    assert_eq!(lost, [true, false]);
    let checked = service.run(&["selfcheck"]);
    assert!(text(&checked.stdout).contains("the password of feed Summit"), "{}", text(&checked.stdout));
    // Everything about it but the secret can be changed, and the secret can be set again.
    service.must(&["feed", "edit", "Summit", "--site", "Fell"], "");
    service.must(&["feed", "edit", "Summit", "--password-stdin"], password);
    service.wait_live("Second");
    assert!(service.must(&["selfcheck"], "").contains("All secrets can be decrypted"));
}

#[test]
fn a_damaged_stream_key_blocks_its_push_alone_until_it_is_set_again() {
    let mut service = Service::start();
    let world = running(&service);
    let server = world.platform.server();
    service.must(&["destination", "add", "Thistle", "--server", &server, "--key-stdin"], support::SECOND_KEY);
    service.must(&["relay", "edit", "Line", "--to", "Bramble", "Thistle"], "");
    service.wait_live("Line");
    assert!(service.stop());
    damage(&service, "key", "destination", "Thistle");
    service.start_again();
    let relay = service.wait("Line", "one blocked", |relay| {
        relay["pushes"][1]["state"] == "blocked" && relay["pushes"][0]["state"] == "live"
    });
    assert_eq!(relay["pushes"][1]["cause"]["code"], "push.secret-lost");
    assert!(service.must(&["destination", "list"], "").contains("Thistle"));
    let refused = service.run(&["destination", "reveal", "Thistle"]);
    assert!(text(&refused.stderr).contains("request.secret-lost"), "{}", text(&refused.stderr));
    service.must(&["destination", "rekey", "Thistle", "--key-stdin"], support::SECOND_KEY);
    service.wait_live("Line");
}

/// Starts the service where it must refuse; returns what it says.
fn refused_start(service: &Service) -> String {
    let mut program = Command::new(support::program());
    program.args(["serve", "--listen", "127.0.0.1:0", "--home"]).arg(service.home.path());
    let started = support::output(&mut program);
    assert_eq!(started.status.code(), Some(1), "{}", text(&started.stderr));
    text(&started.stderr)
}

#[test]
fn without_its_master_key_the_service_does_not_start_and_makes_no_other() {
    let mut service = Service::start();
    let _world = running(&service);
    let backup = service.home.path().join("copy.db").display().to_string();
    service.must(&["backup", "--out", &backup], "");
    assert!(service.stop());
    let key = service.home.path().join("master.key");
    let aside = service.home.path().join("master.key.aside");
    fs::rename(&key, &aside).unwrap();
    let said = refused_start(&service);
    assert!(said.contains("missing") && said.contains("YONDER_MASTER_KEY_FILE"), "{said}");
    assert!(!key.exists());
    let restore = service.run(&["restore", &backup]);
    assert!(text(&restore.stderr).contains("missing"), "{}", text(&restore.stderr));
    assert!(!key.exists());

    let other = tempfile::tempdir().unwrap();
    fs::write(&key, "AQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQE=\n").unwrap();
    let said = refused_start(&service);
    assert!(said.contains("another master key"), "{said}");
    fs::rename(&key, other.path().join("wrong.key")).unwrap();
    fs::rename(&aside, &key).unwrap();
    service.start_again();
    service.wait_live("Line");
}

#[test]
fn records_with_a_lost_master_key_work_once_secrets_are_set_again() {
    let mut service = Service::start();
    let _world = running(&service);
    assert!(service.stop());
    fs::remove_file(service.home.path().join("master.key")).unwrap();
    let said = service.must(&["master-key", "reset"], "");
    assert!(said.contains("feed Viaduct: set its password again"), "{said}");
    assert!(said.contains("destination Bramble: set its key again"), "{said}");
    let refused = service.run(&["master-key", "reset"]);
    assert!(text(&refused.stderr).contains("belongs to these records"), "{}", text(&refused.stderr));
    service.start_again();
    service.wait("Line", "blocked", |relay| relay["feed"]["cause"]["code"] == "feed.secret-lost");
    service.must(&["feed", "edit", "Viaduct", "--password-stdin"], support::CAMERA_PASSWORD);
    service.must(&["destination", "rekey", "Bramble", "--key-stdin"], support::KEY);
    service.wait_live("Line");
}

#[test]
fn the_master_key_is_rotated_without_ending_a_broadcast_and_a_cut_rotation_is_completed() {
    let mut service = Service::start();
    let _world = running(&service);
    let key = service.home.path().join("master.key");
    let former = fs::read(&key).unwrap();
    let said = service.must(&["master-key", "rotate"], "");
    assert!(said.contains("secrets encrypted again: 2"), "{said}");
    assert_ne!(fs::read(&key).unwrap(), former);
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);
    assert!(service.must(&["selfcheck"], "").contains("All secrets can be decrypted"));
    // As the power leaves it between the records and the last step.
    service.kill();
    fs::rename(&key, service.home.path().join("master.key.next")).unwrap();
    fs::write(&key, &former).unwrap();
    service.start_again();
    service.wait_live("Line");
    assert_ne!(fs::read(&key).unwrap(), former);
    assert!(!service.home.path().join("master.key.next").exists());
}
