//! The clock of our own machine is stepped by an hour, forth and back, under a relay that runs.

use std::fs;
use std::path::PathBuf;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::support::{Service, World, program};
use jiff::Timestamp;
use rstest::rstest;
use serde_json::Value;

/// Puts another clock under a program: the wall clock alone, as a step by hand or by NTP does.
fn stepping_library() -> PathBuf {
    let folders = fs::read_dir("/usr/lib").unwrap().flatten().map(|entry| entry.path().join("faketime"));
    let mut libraries = folders.map(|folder| folder.join("libfaketimeMT.so.1"));
    libraries.find(|library| library.exists()).expect("the package faketime is installed")
}

struct Clock {
    file: tempfile::NamedTempFile,
}

impl Clock {
    fn step(&self, offset: &str) {
        fs::write(self.file.path(), format!("{offset}\n")).unwrap();
    }
}

fn start_with_a_clock() -> (Service, Clock) {
    let clock = Clock { file: tempfile::NamedTempFile::new().unwrap() };
    clock.step("+0");
    let mut command = Command::new(program());
    command
        .env("LD_PRELOAD", stepping_library())
        .env("FAKETIME_TIMESTAMP_FILE", clock.file.path())
        .env("FAKETIME_NO_CACHE", "1")
        .env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
    (Service::start_program(command), clock)
}

/// Returns the service's own idea of the time, in seconds from ours.
fn ahead_s(service: &Service) -> i64 {
    let status: Value = serde_json::from_str(&service.must(&["status", "--json"], "")).unwrap();
    let now: Timestamp = status["now"].as_str().unwrap().parse().unwrap();
    now.as_second() - Timestamp::now().as_second()
}

#[rstest]
#[case::forth("+1h", 3_600)]
#[case::back("-1h", -3_600)]
fn a_clock_that_is_stepped_by_an_hour_interrupts_nothing(#[case] offset: &str, #[case] seconds: i64) {
    let world = World::start();
    let (mut service, clock) = start_with_a_clock();
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line", "--force"], "");
    let before = service.wait_live("Line");
    clock.step(offset);
    let deadline = Instant::now() + Duration::from_secs(5);
    while (ahead_s(&service) - seconds).abs() > 5 {
        assert!(Instant::now() < deadline, "the clock was not stepped: {} s", ahead_s(&service));
        std::thread::sleep(Duration::from_millis(50));
    }
    let sent = |relay: &Value| relay["pushes"][0]["frames_sent"].as_u64().unwrap();
    let goal = sent(&before) + 100;
    let after = service.wait("Line", "going on", |relay| sent(relay) >= goal);
    assert_eq!((&after["pushes"][0]["state"], &after["feed"]["state"]), (&"live".into(), &"flowing".into()));
    assert_eq!((&after["pushes"][0]["reconnects"], &after["feed"]["reconnects"]), (&0.into(), &0.into()));
    let report = world.platform.report("one").unwrap();
    assert_eq!((report.broadcasts, report.findings.len()), (1, 0), "{report:?}");
    // Later events carry the new time, and the history stays consistent.
    service.must(&["relay", "stop", "Line"], "");
    assert!(service.stop());
    service.start_again();
    let output = service.must(&["logbook", "--from", "2h"], "");
    assert!(output.contains("Line"), "{output}");
    let checks = service.must(&["selfcheck"], "");
    assert!(checks.contains("The records are sound"), "{checks}");
}
