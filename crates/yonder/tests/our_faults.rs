//! Faults of our own machine: a full disk, no file descriptors left, records that are locked or damaged.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod support;

use std::fs::{self, File};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use rusqlite::Connection;
use support::{PATIENCE, Service, World, text};

fn running(service: &Service) -> World {
    let world = World::start();
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line", "--force"], "");
    service.wait_live("Line");
    world
}

/// A disk of some megabytes, mounted over a folder; `None`, and a word about it, where that is not allowed.
struct SmallDisk(PathBuf);

impl SmallDisk {
    fn mount(over: &Path) -> Option<Self> {
        let mut mount = Command::new("mount");
        mount.args(["-t", "tmpfs", "-o", "size=3m,mode=700", "tmpfs"]).arg(over);
        if mount.output().is_ok_and(|output| output.status.success()) {
            return Some(Self(over.to_owned()));
        }
        support::say("skipped: nothing can be mounted here");
        None
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _unmounted = Command::new("umount").arg("--lazy").arg(&self.0).output();
    }
}

#[test]
fn on_a_full_disk_broadcasts_go_on_changes_are_refused_and_room_heals_it() {
    let mut service = Service::start();
    assert!(service.stop());
    let home = service.home.path().to_owned();
    let Some(_disk) = SmallDisk::mount(&home) else { return };
    service.start_again();
    let _world = running(&service);
    let filler = home.join("filler");
    let mut file = File::create(&filler).unwrap();
    while file.write_all(&[0; 4_096]).is_ok() {}
    drop(file);

    let refused = service.run(&["relay", "edit", "Line", "--hold-after", "9s"]);
    assert_eq!(refused.status.code(), Some(1));
    let said = text(&refused.stderr);
    assert!(said.contains("full"), "{said}");
    let before = service.relay("Line")["pushes"][0]["frames_sent"].as_u64().unwrap();
    std::thread::sleep(Duration::from_secs(3));
    let relay = service.relay("Line");
    assert_eq!((&relay["pushes"][0]["state"], &relay["hold_after_s"]), (&"live".into(), &3.into()));
    assert!(relay["pushes"][0]["frames_sent"].as_u64().unwrap() > before + 40);

    fs::remove_file(&filler).unwrap();
    service.must(&["relay", "edit", "Line", "--hold-after", "9s"], "");
    service.kill();
    service.start_again();
    assert_eq!(service.relay("Line")["hold_after_s"], 9);
    service.wait_live("Line");
    service.kill();
}

fn set_file_limit(process: u32, limit: usize) {
    // The soft limit alone: the hard one belongs to whoever started us.
    let set = format!("--nofile={limit}:");
    let done = Command::new("prlimit").args(["--pid", &process.to_string(), &set]).output().unwrap();
    assert!(done.status.success(), "{}", text(&done.stderr));
}

#[test]
fn without_file_descriptors_the_service_waits_and_goes_on_once_there_are_some() {
    let service = Service::start();
    let world = running(&service);
    let process = service.process();
    let open = fs::read_dir(format!("/proc/{process}/fd")).unwrap().count();
    set_file_limit(process, open.saturating_sub(2));
    world.camera_off();
    world.camera_on();
    // Nobody can be let in and nothing can be dialled.
    std::thread::sleep(Duration::from_secs(4));
    set_file_limit(process, 4_096);
    let deadline = Instant::now() + PATIENCE;
    while !service.run(&["status"]).status.success() {
        assert!(Instant::now() < deadline, "the service does not let anybody in");
        std::thread::sleep(Duration::from_millis(100));
    }
    service.wait_live("Line");
    assert!(service.must(&["selfcheck"], "").contains("The records are sound."));
}

#[test]
fn while_the_records_are_locked_broadcasts_go_on_and_changes_wait_or_are_refused() {
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
fn damaged_records_keep_the_service_from_starting_with_the_next_step() {
    let mut service = Service::start();
    assert!(service.stop());
    let records = service.home.path().join("yonder.db");
    fs::write(&records, vec![0x5a; 20_000]).unwrap();
    let mut program = Command::new(support::program());
    let started = program
        .args(["serve", "--listen", "127.0.0.1:0", "--home"])
        .arg(service.home.path())
        .output()
        .unwrap();
    assert_eq!(started.status.code(), Some(1));
    let said = text(&started.stderr);
    assert!(said.contains("yonder restore"), "{said}");
    assert_eq!(fs::read(&records).unwrap(), vec![0x5a; 20_000], "nothing was written over it");
}
