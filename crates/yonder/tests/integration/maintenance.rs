//! Care of the service: backup, restore, selfcheck, figures, and the service manager.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::UnixDatagram;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::support;
use crate::support::{KEY, Service, WAIT_TIMEOUT, World, text};
use serde_json::Value;

fn restore(home: &Path, more: &[&str]) -> std::process::Output {
    Command::new(support::program()).arg("--home").arg(home).arg("restore").args(more).output().unwrap()
}

#[test]
fn a_backup_taken_while_it_runs_brings_everything_back() {
    let (mut service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    let backup = service.home.path().join("records.backup");
    let backup = backup.to_str().unwrap();
    let output = service.must(&["backup", "--out", backup], "");
    assert!(output.contains("master key"), "{output}");
    assert_eq!(fs::metadata(backup).unwrap().permissions().mode() & 0o777, 0o600);
    let bytes = fs::read(backup).unwrap();
    for secret in [KEY, support::CAMERA_PASSWORD] {
        assert!(
            !bytes.windows(secret.len()).any(|window| window == secret.as_bytes()),
            "{secret} lies in it open"
        );
    }
    let again = service.run(&["backup", "--out", backup]);
    assert_eq!(again.status.code(), Some(2), "a file that is there is left alone");
    assert_eq!(fs::read(backup).unwrap(), bytes);

    service.must(&["relay", "remove", "Line"], "");
    service.must(&["person", "invite", "Night desk", "--role", "operator"], "");
    let refused = restore(service.home.path(), &[backup]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains("Stop the service first"), "{}", text(&refused.stderr));
    assert!(service.stop());
    let restored = restore(service.home.path(), &[backup]);
    assert!(restored.status.success(), "{}", text(&restored.stderr));
    let said = text(&restored.stdout);
    assert!(said.contains("before-restore") && said.contains("all sessions have ended"), "{said}");
    service.start_again();
    service.wait_live("Line");

    // A power cut between the former records and the new ones.
    assert!(service.stop());
    let marker = service.home.path().join("restore-in-progress");
    fs::write(&marker, "").unwrap();
    fs::rename(service.home.path().join("yonder.db"), service.home.path().join("aside.db")).unwrap();
    let refused = Command::new(support::program())
        .args(["serve", "--listen", "127.0.0.1:0", "--home"])
        .arg(service.home.path())
        .output()
        .unwrap();
    let said = text(&refused.stderr);
    assert!(!refused.status.success() && said.contains("restore was interrupted"), "{said}");
    assert!(!service.home.path().join("yonder.db").exists(), "no empty records are made");
    let restored = restore(service.home.path(), &[backup, "--keep-sessions"]);
    assert!(restored.status.success(), "{}", text(&restored.stderr));
    assert!(!marker.exists());
    service.start_again();
    service.wait_live("Line");
}

#[test]
fn a_backup_on_another_machine_needs_the_master_key_and_can_leave_everything_off() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    let backup = service.home.path().join("records.backup");
    let backup = backup.to_str().unwrap();
    service.must(&["backup", "--out", backup], "");

    let mut other = Service::start();
    assert!(other.stop());
    let records = fs::read(other.home.path().join("yonder.db")).unwrap();
    let refused = restore(other.home.path(), &[backup]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains("YONDER_MASTER_KEY_FILE"), "{}", text(&refused.stderr));
    let damaged = other.file("damaged.backup", "this is no backup");
    assert_eq!(restore(other.home.path(), &[&damaged]).status.code(), Some(1));
    assert_eq!(fs::read(other.home.path().join("yonder.db")).unwrap(), records, "nothing changed");
    let left: Vec<_> =
        fs::read_dir(other.home.path()).unwrap().map(|file| file.unwrap().file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().starts_with("restore-")), "{left:?}");

    fs::copy(service.home.path().join("master.key"), other.home.path().join("master.key")).unwrap();
    let restored = restore(other.home.path(), &[backup, "--relays-off"]);
    assert!(restored.status.success(), "{}", text(&restored.stderr));
    other.start_again();
    assert_eq!(other.relay("Line")["wanted"], "off");
}

#[test]
fn backups_are_made_by_themselves_and_the_records_can_be_upgraded() {
    let mut service = Service::start_with(|command| {
        command.args(["--backup-every", "2s", "--backup-keep", "2"]);
    });
    service.must(&["feed", "add", "Summit", "--url", "rtsp://192.0.2.7/main"], "");
    let folder = service.home.path().join("backups");
    let names = || {
        let files = fs::read_dir(&folder).into_iter().flatten();
        let mut names: Vec<_> = files.map(|file| file.unwrap().path()).collect();
        names.retain(|file| file.extension().is_some_and(|extension| extension == "backup"));
        names.sort();
        names
    };
    let begun = std::time::Instant::now();
    let first = loop {
        if let Some(first) = names().into_iter().next() {
            break first;
        }
        assert!(begun.elapsed() < WAIT_TIMEOUT, "no backup was made");
        std::thread::sleep(Duration::from_millis(50));
    };
    while names().len() < 2 || names().contains(&first) {
        assert!(begun.elapsed() < WAIT_TIMEOUT, "old backups stay: {:?}", names());
        std::thread::sleep(Duration::from_millis(50));
    }
    let output = service.must(&["selfcheck"], "");
    assert!(output.contains("The last backup is 0 h old"), "{output}");
    let trail = service.must(&["audit"], "");
    assert!(trail.contains("backed-up") && trail.contains("schedule"), "{trail}");

    let upgrade = |more: &[&str]| {
        let mut command = Command::new(support::program());
        command.arg("--home").arg(service.home.path()).arg("upgrade").args(more).output().unwrap()
    };
    let checked = upgrade(&["--check"]);
    assert!(checked.status.success(), "{}", text(&checked.stderr));
    assert!(text(&checked.stdout).contains("no migration is needed"), "{}", text(&checked.stdout));
    let refused = upgrade(&[]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains("Stop the service first"), "{}", text(&refused.stderr));
    let backup = names().pop().unwrap();
    assert!(service.stop());
    let restored = restore(service.home.path(), &[backup.to_str().unwrap()]);
    assert!(restored.status.success(), "{}", text(&restored.stderr));
    // Permissions that let other users read the key are reported and corrected.
    let token = service.home.path().join("token");
    fs::set_permissions(&token, fs::Permissions::from_mode(0o644)).unwrap();
    service.start_again();
    assert_eq!(fs::metadata(&token).unwrap().permissions().mode() & 0o777, 0o600);
    service.wait_log("rotate the master key");
}

#[test]
fn selfcheck_reports_all_checks() {
    let service = Service::start();
    let output = service.must(&["selfcheck"], "");
    for check in ["records", "secrets", "disk", "backup", "open-files", "authorities"] {
        assert!(output.contains(check), "{check} is not in {output}");
    }
    let checks: Value = serde_json::from_str(&service.must(&["selfcheck", "--json"], "")).unwrap();
    assert!(checks.as_array().unwrap().iter().all(|check| check["level"] != "fail"), "{checks:#}");
}

#[test]
fn metrics_need_a_token() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    let url = format!("{}/metrics", service.url());
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    assert_eq!(agent.get(&url).call().unwrap().status(), 401);
    let token = fs::read_to_string(service.home.path().join("token")).unwrap();
    let bearer = format!("Bearer {}", token.trim());
    let mut answer = agent.get(&url).header("Authorization", bearer).call().unwrap();
    assert!(answer.headers()["content-type"].to_str().unwrap().starts_with("application/openmetrics-text"));
    let figures = answer.body_mut().read_to_string().unwrap();
    assert!(figures.contains(r#"yonder_push_up{relay="Line",destination="Bramble"} 1"#), "{figures}");
    assert!(figures.ends_with("# EOF\n"));
}

#[test]
fn service_manager_is_notified_of_ready_watchdog_and_stopping() {
    let home = tempfile::tempdir().unwrap();
    let socket = home.path().join("notify");
    let manager = UnixDatagram::bind(&socket).unwrap();
    manager.set_read_timeout(Some(WAIT_TIMEOUT)).unwrap();
    let mut child = Command::new(support::program())
        .args(["serve", "--listen", "127.0.0.1:0", "--home"])
        .arg(home.path().join("home"))
        .env("NOTIFY_SOCKET", &socket)
        .env("WATCHDOG_USEC", "400000")
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let heard = || {
        let mut said = [0; 256];
        let length = manager.recv(&mut said).unwrap();
        text(&said[..length])
    };
    assert!(heard().contains("READY=1"));
    assert!(heard().contains("WATCHDOG=1"));
    assert!(heard().contains("WATCHDOG=1"));
    let process = nix::unistd::Pid::from_raw(i32::try_from(child.id()).unwrap());
    nix::sys::signal::kill(process, nix::sys::signal::Signal::SIGTERM).unwrap();
    let mut last = String::new();
    while !last.contains("STOPPING=1") {
        last = heard();
    }
    manager.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
    assert!(child.wait().unwrap().success());
}
