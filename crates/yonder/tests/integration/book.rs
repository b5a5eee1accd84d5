//! The site book, by command: checked, compared, brought into effect as a whole, and written out.

use std::fs;

use crate::support;
use crate::support::{CAMERA_PASSWORD, KEY, PASSPHRASE, SECOND_KEY, Service, World, text};
use serde_json::Value;

/// Two lines of the railway: one by RTMPS and one by SRT, with secrets from files, the environment and a person.
fn railway(world: &World, service: &Service) -> String {
    service.file("camera-password", &format!("{CAMERA_PASSWORD}\n"));
    service.file("viaduct-key", &format!("  {KEY} \n"));
    service.file("passphrase", PASSPHRASE);
    service.file("authority.pem", &world.authority);
    let camera = world.camera.url("");
    let (tls, srt) = (world.platform.tls_server().unwrap(), world.platform.srt_server().unwrap());
    format!(
        r#"book = 1

[uplink."Office fibre"]
rate = "40Mbit/s"
source = "127.0.0.45"

[platform."Fell Hall"]
like = "Bramble TV"
rules = {{ "video.ceiling" = "5Mbit/s" }}

[feed.Viaduct]
url = "{camera}/viaduct/main"
user = "rail"
password = {{ file = "camera-password" }}

[feed.Shed]
url = "{camera}/shed/main"
user = "rail"
password = {{ file = "camera-password" }}

[destination.Bramble]
server = "{tls}"
platform = "Fell Hall"
key = {{ file = "viaduct-key" }}
authority = {{ file = "authority.pem" }}
uplinks = ["Office fibre"]

[destination.Marrow]
server = "{srt}"
key = "ask"
passphrase = {{ file = "passphrase" }}

[relay."Viaduct line"]
feed = "Viaduct"
to = ["Bramble"]
wanted = "on"

[relay."Shed line"]
feed = "Shed"
to = ["Marrow"]
wanted = "on"
hold_after_s = 5

[contact.Admin]
channel = {{ type = "email", server = "mail.example.net:25", security = "none", from = "relay@example.net", to = ["desk@example.net"] }}

[alert.Down]
when = "down 60s"
to = ["Admin"]
"#
    )
}

fn exported(service: &Service) -> String {
    service.must(&["book", "export"], "")
}

fn refused(service: &Service, arguments: &[&str]) -> String {
    let output = service.run(&[&["book"], arguments].concat());
    assert_eq!(output.status.code(), Some(1), "{}", text(&output.stdout));
    text(&output.stderr)
}

#[test]
fn exported_book_sets_up_the_same_site() {
    let world = World::start();
    let mut service = Service::start();
    let book = service.file("railway.toml", &railway(&world, &service));
    let audio = service.must(&["book", "check", &book], "");
    assert!(audio.contains("1 uplink, 1 platform, 2 feeds, 2 destinations, 2 relays"), "{audio}");
    assert_eq!(exported(&service).matches("[feed").count(), 0, "a check keeps nothing");
    let output = service.must(&["book", "apply", &book, "--force"], &format!("{SECOND_KEY}\n"));
    assert!(output.contains("10 records changed: 10 added."), "{output}");
    service.wait_live("Viaduct line");
    service.wait_live("Shed line");
    assert_eq!(service.must(&["destination", "reveal", "Bramble"], ""), format!("{KEY}\n"));
    let out = exported(&service);
    let again = service.file("out.toml", &out);
    assert_eq!(
        service.must(&["book", "diff", &again, "--prune"], ""),
        "Nothing changes: the records match the site book.\n"
    );
    // The first book still says the same, though a rule sheet was grown and a key put right.
    let same = service.must(&["book", "diff", &book], &format!("{SECOND_KEY}\n"));
    assert!(same.starts_with("Nothing changes"), "{same}");
    for secret in [CAMERA_PASSWORD, KEY, SECOND_KEY, PASSPHRASE] {
        for shown in [&out, &output, &audio, &service.log()] {
            assert!(!shown.contains(secret), "{shown}");
        }
    }
    assert!(out.contains("password = \"keep\"") && out.contains("key = \"keep\""), "{out}");
    assert!(service.stop());
}

#[test]
fn only_relays_whose_parts_change_are_touched() {
    let world = World::start();
    let service = Service::start();
    let first = railway(&world, &service);
    let book = service.file("railway.toml", &first);
    service.must(&["book", "apply", &book, "--force"], &format!("{SECOND_KEY}\n"));
    service.wait_live("Viaduct line");
    let before = service.wait_live("Shed line");
    // One relay gets another holding time and is held; a rule and an alert change; a feed is new.
    let changed = first
        .replace("wanted = \"on\"\nhold_after_s = 5", "wanted = \"hold\"\nhold_after_s = 9")
        .replace("5Mbit/s", "6Mbit/s")
        .replace("down 60s", "down 90s")
        .replace("key = \"ask\"", "key = \"keep\"")
        + "\n[feed.Bandstand]\nurl = \"rtsp://192.0.2.9/bandstand\"\n";
    service.file("railway.toml", &changed);
    let output = service.must(&["book", "diff", &book], "");
    assert!(output.contains("hold_after_s: 5 → 9") && output.contains("wanted: on → hold"), "{output}");
    assert!(output.contains("rules.video.ceiling: 5000kbit/s → 6000kbit/s\n"), "{output}");
    assert!(output.contains("4 records would change: 1 added, 3 changed."), "{output}");
    service.must(&["book", "apply", &book], "");
    let held = service.wait("Shed line", "held", |relay| relay["pushes"][0]["state"] == "holding");
    assert_eq!(held["pushes"][0]["reconnects"], 0);
    assert!(held["pushes"][0]["bytes"].as_u64() > before["pushes"][0]["bytes"].as_u64());
    let other = service.relay("Viaduct line");
    assert_eq!(
        (&other["pushes"][0]["state"], &other["pushes"][0]["reconnects"]),
        (&"live".into(), &0.into())
    );
    let stored: Value =
        serde_json::from_str(&service.must(&["destination", "show", "Marrow", "--json"], "")).unwrap();
    assert_eq!(stored["key"]["rolls"], 0, "a key that stays is not rolled: {stored:#}");
    let changes = service.must(&["logbook"], "");
    assert!(changes.contains("platform Fell Hall") && changes.contains("changed by local"), "{changes}");
}

#[test]
fn refused_book_changes_nothing_and_lists_all_errors() {
    let world = World::start();
    let service = Service::start();
    let good =
        railway(&world, &service).replace("key = \"ask\"", "key = { env = \"YONDER_TEST_NO_SUCH_KEY\" }");
    let book = service.file("railway.toml", &good);
    let said = refused(&service, &["apply", &book]);
    assert!(said.contains("YONDER_TEST_NO_SUCH_KEY is not set") && said.contains("railway.toml:"), "{said}");
    let good = good.replace("{ env = \"YONDER_TEST_NO_SUCH_KEY\" }", "{ file = \"viaduct-key\" }");
    let wrong = good
        .replace("rate = \"40Mbit/s\"", "rate = \"40 apples\"")
        .replace("feed = \"Shed\"", "feed = \"Shade\"")
        .replace("when = \"down 60s\"", "when = \"sunday\"")
        .replace("to = [\"desk@example.net\"]", "to = [\"nobody\"]");
    service.file("railway.toml", &wrong);
    let before = exported(&service);
    let said = refused(&service, &["apply", &book]);
    for (line, words) in [
        (3, "uplink \"Office fibre\": "),
        (38, "relay \"Shed line\": There is no feed named \"Shade\""),
        (44, "contact \"Admin\": "),
        (47, "alert \"Down\": "),
    ] {
        assert!(said.contains(&format!("railway.toml:{line}: {words}")), "{line} {words}: {said}");
    }
    assert!(said.contains("Did you mean the feed \"Shed\"?"), "{said}");
    // References to refused records are not reported separately.
    assert!(said.contains("the book is refused (4 faults)"), "{said}");
    assert_eq!(exported(&service), before);
    let twice = good.split("[destination.Marrow]").collect::<Vec<_>>();
    let (_, after) = twice[1].split_once("\n\n").unwrap();
    let (tls, key) = (world.platform.tls_server().unwrap(), "{ file = \"viaduct-key\" }");
    let twin = format!("[destination.Marrow]\nserver = \"{tls}\"\nkey = {key}\n\n");
    service.file("railway.toml", &format!("{}{twin}{after}", twice[0]));
    let said = refused(&service, &["apply", &book]);
    assert!(said.contains("The destination \"Bramble\" has the same key at the same server"), "{said}");
    assert_eq!(exported(&service), before);
    assert!(service.must(&["status"], "").contains("no relays"), "nothing runs");
    service.file("railway.toml", &good.replace("to = [\"Marrow\"]", "too = [\"Marrow\"]"));
    let said = refused(&service, &["check", &book]);
    assert!(said.contains("a relay has no field \"too\"; did you mean \"to\"?"), "{said}");
    let said = refused(&service, &["check", &book]);
    assert!(!said.contains(KEY), "{said}");
}

#[test]
fn pruning_removes_records_that_are_not_in_the_book() {
    let world = World::start();
    let service = Service::start();
    let first = railway(&world, &service);
    let book = service.file("railway.toml", &first);
    service.must(&["book", "apply", &book, "--force"], &format!("{SECOND_KEY}\n"));
    service.wait_live("Viaduct line");
    service.wait_live("Shed line");
    // The shed's line goes, with all that was its own; the viaduct's destination leaves its uplink.
    let keeps = ["[feed.Viaduct]", "[destination.Bramble]", "[relay.\"Viaduct line\"]"];
    let tables = first.split("\n\n").filter(|table| keeps.iter().any(|keep| table.starts_with(keep)));
    let less = format!("book = 1\n\n{}\n", tables.collect::<Vec<_>>().join("\n\n"))
        .replace("uplinks = [\"Office fibre\"]\n", "")
        .replace("platform = \"Fell Hall\"\n", "");
    fs::write(&book, less.trim_end_matches("uplinks = [\"Office fibre\"]")).unwrap();
    let unchanged = service.must(&["book", "diff", &book], "");
    assert!(!unchanged.contains("removed"), "{unchanged}");
    let output = service.must(&["book", "diff", &book, "--prune"], "");
    assert!(output.contains("removed  relay Shed line") && output.contains("would change"), "{output}");
    // A diff changes nothing: the relay that it would remove keeps running.
    let sends = |relay: &Value| relay["pushes"][0]["frames_sent"].as_u64() > Some(60);
    let shed = service.wait("Shed line", "going on", sends);
    let push = &shed["pushes"][0];
    assert_eq!((&push["state"], &push["reconnects"]), (&"live".into(), &0.into()), "{shed:#}");
    let output = service.must(&["book", "apply", &book, "--prune"], "");
    assert!(
        output.contains("removed  relay Shed line") && output.contains("removed  uplink Office fibre"),
        "{output}"
    );
    let left = exported(&service);
    assert_eq!(left.matches("\n[").count(), 3 + left.matches("\n[pattern").count(), "{left}");
    world.platform.report("two").unwrap();
    service.wait_live("Viaduct line");
    let status = service.must(&["status"], "");
    assert!(!status.contains("Shed"), "{status}");
}

#[test]
fn syntax_errors_of_a_book_are_reported_without_a_service() {
    let service = Service::start();
    let book = service.file("railway.toml", "book = 1\n[fead.Viaduct]\nurl = \"rtsp://192.0.2.9/a\"\n");
    let output = std::process::Command::new(support::program())
        .args(["--home", "/nonexistent", "book", "check", &book])
        .output()
        .unwrap();
    let said = text(&output.stderr);
    assert_eq!(output.status.code(), Some(1));
    assert!(said.contains("railway.toml:2: there is no section \"fead\"; did you mean \"feed\"?"), "{said}");
}

#[test]
fn demo_book_is_valid_and_asks_for_its_secrets() {
    let service = Service::start();
    let book = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/railway.toml");
    let audio = service.must(&["book", "check", book], "");
    assert!(audio.contains("3 uplinks, 2 feeds, 3 destinations, 2 relays, 2 alerts."), "{audio}");
    let secrets = "camera-a\ncamera-b\nkey-of-bramble\nkey-of-thistle\nkey-of-marrow\nsteam and semaphores\n";
    let output = service.run_with(&["book", "apply", book], "camera-a\n");
    assert!(text(&output.stderr).contains("standard input ended before the password"), "{output:?}");
    service.must(&["book", "apply", book], secrets);
    let revealed = service.must(&["destination", "reveal", "Marrow Hall Viaduct"], "");
    assert_eq!(revealed, "key-of-marrow\npassphrase steam and semaphores\n");
}
