//! The platform's side through the real program: destinations as they are pasted, keys, rule sheets, uplinks,
//! preflight and rehearsal.

use crate::support;
use crate::support::{KEY, PASSPHRASE, SECOND_KEY, Service, World, text};
use rstest::rstest;
use serde_json::Value;

fn json(service: &Service, arguments: &[&str]) -> Value {
    serde_json::from_str(&service.must(&[arguments, &["--json"]].concat(), "")).unwrap()
}

/// Returns the checks that did not pass, as "subject check level".
fn trouble(checks: &Value) -> Vec<String> {
    let all = checks.as_array().unwrap().iter().filter(|check| check["level"] != "pass");
    let word = |check: &Value, name: &str| check[name].as_str().unwrap().to_owned();
    all.map(|check| format!("{} {} {}", word(check, "subject"), word(check, "check"), word(check, "level")))
        .collect()
}

fn add_srt(service: &Service, world: &World, name: &str) {
    let passphrase = service.file("passphrase", PASSPHRASE);
    let server = world.platform.srt_server().unwrap();
    let add =
        ["destination", "add", name, "--server", &server, "--key-stdin", "--passphrase-file", &passphrase];
    service.must(&[&add[..], &["--platform", "Marrow Hall", "--key-length", "256"]].concat(), SECOND_KEY);
}

#[rstest]
#[case::together("rtmp://ingest.example.net/live/planted-stream-key-9Z\n", &[])]
#[case::apart(" planted-stream-key-9Z\r\n", &["--server", "rtmp://ingest.example.net//live/"])]
#[case::quoted("\"planted-stream-key-9Z\"", &["--server", "\"RTMP://ingest.example.net/live\""])]
#[case::twice("planted-stream-key-9Z", &["--server", "rtmp://ingest.example.net/live/planted-stream-key-9Z"])]
fn pasted_input_is_corrected_and_reported(#[case] key: &str, #[case] server: &[&str]) {
    let service = Service::start();
    let added = service.must(&[&["destination", "add", "Bramble", "--key-stdin"], server].concat(), key);
    assert!(added.contains("rtmp://ingest.example.net/live\n"), "{added}");
    assert!(added.contains("…y-9Z, 21 characters") && added.contains("note "), "{added}");
    assert!(!added.contains("planted"), "{added}");
}

#[rstest]
#[case::watch_page("https://bramble.example.net/watch/summit", "address for encoders")]
#[case::camera("rtsp://192.0.2.7/main", "address of a camera")]
#[case::no_application("rtmp://ingest.example.net", "has no application")]
#[case::listener("srt://ingest.example.net:9000?mode=listener", "pushes call the platform")]
fn invalid_server_is_refused_with_its_reason(#[case] server: &str, #[case] says: &str) {
    let service = Service::start();
    let refused = service.run_with(&["destination", "add", "X", "--server", server, "--key-stdin"], KEY);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains(says), "{}", text(&refused.stderr));
    assert_eq!(json(&service, &["destination", "list"]), serde_json::json!([]));
}

#[test]
fn duplicate_key_is_refused_at_the_same_server_and_remarked_at_another() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let server = world.platform.server();
    let again = service.run_with(&["destination", "add", "Twin", "--server", &server, "--key-stdin"], KEY);
    assert_eq!(again.status.code(), Some(1));
    assert!(
        text(&again.stderr).contains("\"Bramble\" has the same key")
            && text(&again.stderr).contains("destination.same-key")
    );
    let elsewhere =
        ["destination", "add", "Twin", "--server", "rtmp://other.example.net/live", "--key-stdin"];
    assert!(service.must(&elsewhere, KEY).contains("Bramble has the same key at another server"));
}

#[test]
fn a_line_over_three_protocols_is_checked_started_and_live() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    add_srt(&service, &world, "Marrow");
    let authority = service.file("authority.pem", &world.authority);
    let tls = world.platform.tls_server().unwrap();
    // The stand-in has two channels; the third push waits for one of them to be free.
    service.must(
        &["destination", "add", "Thistle", "--server", &tls, "--key-stdin", "--authority", &authority],
        "a-key-of-no-channel",
    );
    service.must(&["relay", "edit", "Line", "--to", "Bramble", "Marrow", "Thistle"], "");
    let preflight = json(&service, &["relay", "preflight", "Line"]);
    assert_eq!(preflight["level"], "warn", "{preflight:#}");
    let reasons = preflight["checks"].to_string();
    assert!(reasons.contains("SRT listener answered") && reasons.contains("TLS agreed"), "{reasons}");
    // No key was sent: nothing was broadcast, and a wrong key was not noticed.
    assert!(world.platform.report("one").is_none() && world.platform.report("two").is_none());
    service.must(&["relay", "start", "Line"], "");
    let relay = service.wait("Line", "two live and one blocked", |relay| {
        relay["pushes"][0]["state"] == "live"
            && relay["pushes"][1]["state"] == "live"
            && relay["pushes"][2]["state"] == "blocked"
    });
    assert_eq!(relay["pushes"][2]["cause"]["code"], "push.key-refused");
    let relay = service.wait("Line", "measured", |relay| !relay["pushes"][1]["link"].is_null());
    assert_eq!(relay["pushes"][1]["link"]["encrypted"], true);
    let listed = service.must(&["destination", "list"], "");
    assert!(listed.contains("srt, encrypted") && listed.contains("rtmps, encrypted"), "{listed}");
    assert!(service.must(&["status"], "").contains("round trip"));
}

#[test]
fn a_failed_preflight_keeps_a_relay_off_until_it_is_forced() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["destination", "edit", "Bramble", "--platform", "Thistle Stage"], "");
    service.must(&["relay", "edit", "Line", "--adapt", "none"], "");
    let refused = service.run(&["relay", "start", "Line"]);
    let output = text(&refused.stderr);
    assert_eq!(refused.status.code(), Some(1));
    assert!(
        output.contains("relay.preflight-failed") && output.contains("Thistle Stage accepts rtmps, not rtmp"),
        "{output}"
    );
    assert!(output.contains("Thistle Stage requires audio"), "{output}");
    assert_eq!(service.relay("Line")["wanted"], "off");
    service.must(&["relay", "start", "Line", "--force"], "");
    service.wait_live("Line");
    service.wait_log("start-forced");
}

#[test]
fn a_server_that_is_not_there_fails_before_the_start() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["destination", "edit", "Bramble", "--server", "rtmp://127.0.0.1:9/live"], "");
    let preflight: Value =
        serde_json::from_slice(&service.run(&["relay", "preflight", "Line", "--json"]).stdout).unwrap();
    assert_eq!(trouble(&preflight["checks"])[0], "Bramble server fail");
    // A backup server makes it worth a try.
    let backup = world.platform.server();
    service.must(&["destination", "edit", "Bramble", "--backup-server", &backup, "--return-after", "60"], "");
    service.must(&["relay", "start", "Line"], "");
    let relay = service.wait_live("Line");
    assert_eq!(relay["pushes"][0]["server"], "backup");
    assert!(service.must(&["status"], "").contains("on the backup server"));
}

#[test]
fn a_camera_that_cannot_be_pulled_fails_with_its_cause_and_may_be_forced() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    world.camera_off();
    let refused = service.run(&["relay", "start", "Line"]);
    assert!(text(&refused.stderr).contains("refused the connection"), "{}", text(&refused.stderr));
    service.must(&["relay", "start", "Line", "--force"], "");
    world.camera_on();
    service.wait_live("Line");
}

#[test]
fn second_relay_with_the_same_key_is_refused() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.must(&["relay", "add", "Other", "--feed", "Viaduct", "--to", "Bramble"], "");
    let refused = service.run(&["relay", "start", "Other"]);
    let output = text(&refused.stderr);
    assert!(output.contains("the relay Line pushes to this destination already"), "{output}");
    service.must(&["relay", "stop", "Line"], "");
    service.must(&["relay", "start", "Other"], "");
    // Cleared once, it is still looked whether the key is free.
    let refused = service.run(&["relay", "start", "Line"]);
    assert!(text(&refused.stderr).contains("relay.key-in-use"), "{}", text(&refused.stderr));
}

#[test]
fn a_relay_is_checked_once_and_again_after_a_change() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let took = |service: &Service| {
        let begun = std::time::Instant::now();
        service.must(&["relay", "start", "Line"], "");
        service.must(&["relay", "stop", "Line"], "");
        begun.elapsed().as_millis()
    };
    assert!(took(&service) > 3_000);
    assert!(took(&service) < 2_500);
    service
        .must(&["destination", "edit", "Bramble", "--watch-page", "https://bramble.example.net/summit"], "");
    assert!(took(&service) > 3_000);
}

#[test]
fn one_broadcast_key_is_used_up_after_the_broadcast() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["destination", "edit", "Bramble", "--key-kind", "one-broadcast"], "");
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    let deadline = std::time::Instant::now() + support::WAIT_TIMEOUT;
    while json(&service, &["destination", "show", "Bramble"])["key"]["used_at"].is_null() {
        assert!(std::time::Instant::now() < deadline, "its use is not noted");
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
    service.must(&["relay", "stop", "Line"], "");
    let preflight: Value =
        serde_json::from_slice(&service.run(&["relay", "preflight", "Line", "--json"]).stdout).unwrap();
    assert_eq!(trouble(&preflight["checks"])[0], "Bramble key fail");
    // A fresh one is good again, and expires some day.
    world.platform.set_key("one", "a-fresh-key-of-today".into());
    let rolled = service.must(
        &["destination", "rekey", "Bramble", "--key-stdin", "--key-expires", "2099-12-31"],
        "a-fresh-key-of-today",
    );
    assert!(
        rolled.contains("rolled 1 times, for one broadcast, expires 2099-12-31")
            || rolled.contains("expires 2100-01-01"),
        "{rolled}"
    );
    service.must(&["relay", "preflight", "Line"], "");
}

#[test]
fn rolling_key_and_passphrase_reconnects_that_push_alone_and_reveal_shows_both() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    add_srt(&service, &world, "Marrow");
    service.must(&["relay", "edit", "Line", "--to", "Bramble", "Marrow"], "");
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    let wrong = service.file("passphrase", "not the passphrase");
    service.must(&["destination", "rekey", "Marrow", "--passphrase-file", &wrong], "");
    let relay = service.wait("Line", "blocked", |relay| relay["pushes"][1]["state"] == "blocked");
    assert_eq!(relay["pushes"][1]["cause"]["code"], "push.passphrase-refused");
    assert_eq!(
        (&relay["pushes"][0]["state"], &relay["pushes"][0]["reconnects"]),
        (&"live".into(), &0.into())
    );
    let right = service.file("passphrase", PASSPHRASE);
    service.must(&["destination", "rekey", "Marrow", "--passphrase-file", &right], "");
    service.wait_live("Line");
    assert_eq!(world.platform.report("one").unwrap().broadcasts, 1);
    let revealed = service.must(&["destination", "reveal", "Marrow"], "");
    assert_eq!(revealed, format!("{SECOND_KEY}\npassphrase {PASSPHRASE}\n"));
    service.wait_log("key-revealed");
}

#[rstest]
#[case::as_it_goes(&[], "rtmp", "pass")]
#[case::over_srt(&["--over", "srt"], "srt", "pass")]
#[case::by_stricter_rules(&["--as", "Thistle Stage"], "rtmp", "fail")]
fn rehearsal_grades_the_stream(#[case] how: &[&str], #[case] over: &str, #[case] level: &str) {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["destination", "edit", "Bramble", "--platform", "Plain RTMP"], "");
    let arguments = [&["relay", "rehearse", "Line", "--for", "4s", "--json"], how].concat();
    let output = service.run(&arguments);
    let held: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&held[0]["over"], &held[0]["level"]), (&over.into(), &level.into()), "{held:#}");
    assert_eq!(output.status.code(), Some(i32::from(level == "fail")));
    let graded = &held[0]["graded"];
    assert_eq!((&graded["width"], &graded["video_codec"]), (&1280.into(), &"H.264".into()));
    assert!(graded["pictures"].as_u64().unwrap() > 60 && graded["keyframe_ms"] == 2_000, "{graded}");
    // No session is left running.
    assert!(world.platform.report("one").is_none());
    assert_eq!(service.relay("Line")["feed"]["state"], "off");
}

#[test]
fn rehearsal_without_a_camera_has_its_cause() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.run_with(&["feed", "edit", "Viaduct", "--password-stdin", "--user", "rail"], "wrong");
    let output = service.run(&["relay", "rehearse", "Line", "--for", "3s"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stdout).contains("password"), "{}", text(&output.stdout));
}

#[test]
fn built_in_sheets_are_changed_and_restored() {
    let service = Service::start();
    let shipped = json(&service, &["platform", "list"]);
    let names: Vec<&str> = shipped.as_array().unwrap().iter().map(|p| p["name"].as_str().unwrap()).collect();
    assert_eq!(
        names,
        ["Bramble TV", "Marrow Hall", "Plain RTMP", "RTMP over TLS", "SRT receiver", "Thistle Stage"]
    );
    let edited = service.must(&["platform", "edit", "bramble tv", "--set", "video.ceiling=3Mbit/s"], "");
    assert!(edited.contains("your own") && edited.contains("3000kbit/s"), "{edited}");
    service.must(&["platform", "remove", "Bramble TV"], "");
    assert!(service.must(&["platform", "show", "Bramble TV"], "").contains("9000kbit/s"));
    service.must(
        &["platform", "add", "Parish Hall", "--like", "Bramble TV", "--set", "video.max-lines=576"],
        "",
    );
    let near = service.run(&["platform", "edit", "Parish Hall", "--set", "video.celing=1Mbit/s"]);
    assert!(text(&near.stderr).contains("video.ceiling"), "{}", text(&near.stderr));
    let unitless = service.run(&["platform", "edit", "Parish Hall", "--set", "video.ceiling=3000"]);
    assert!(text(&unitless.stderr).contains("with its unit"), "{}", text(&unitless.stderr));
    let unknown =
        ["destination", "add", "X", "--server", "rtmp://h/live", "--key-stdin", "--platform", "Parish Hal"];
    let refused = service.run_with(&unknown, KEY);
    assert!(
        text(&refused.stderr).contains("Did you mean the platform \"Parish Hall\""),
        "{}",
        text(&refused.stderr)
    );
    assert_eq!(service.run(&["platform", "remove", "Marrow Hall"]).status.code(), Some(1));
    assert!(service.must(&["platform", "rules"], "").contains("broadcast.survives-silence"));
}

#[test]
fn budget_sums_running_and_hypothetical_loads() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let unitless = service.run(&["uplink", "add", "Fibre", "--rate", "20000"]);
    assert!(text(&unitless.stderr).contains("differ by eight"), "{}", text(&unitless.stderr));
    service.must(&["uplink", "add", "Fibre", "--rate", "2.5MB/s", "--allowance", "500GB"], "");
    service.must(&["uplink", "add", "Mast", "--rate", "4Mbit/s", "--site", "Fell"], "");
    service.must(&["feed", "edit", "Viaduct", "--site", "Fell"], "");
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    let budget = json(&service, &["budget"]);
    let (fibre, mast) = (&budget["uplinks"][0], &budget["uplinks"][1]);
    assert_eq!((&fibre["uplink"]["up_kbps"], &fibre["usable_kbps"]), (&20_000.into(), &15_000.into()));
    let sum = fibre["sum_kbps"].as_u64().unwrap();
    assert!((400..2_500).contains(&sum), "{budget:#}");
    assert_eq!(mast["loads"][0]["what"], "pull of Viaduct");
    let more = json(&service, &["budget", "--more", "2", "--over", "srt", "--rate", "4Mbit/s"]);
    let loads = more["uplinks"][0]["loads"].as_array().unwrap();
    assert_eq!(loads.len(), 3);
    assert!(
        loads[1]["kbps"].as_u64().unwrap() > 4_200 && more["uplinks"][1]["verdict"] == "over",
        "{more:#}"
    );
    let chart = service.must(&["budget", "--what-fits", "4"], "");
    assert!(chart.contains("Capacity of Fibre to 4 destinations") && chart.contains("1920×1080"), "{chart}");
    let wrong = service.run(&["budget", "--rate", "4"]);
    assert_eq!(wrong.status.code(), Some(1));
}

#[test]
fn traffic_is_counted_across_a_restart() {
    let (mut service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["uplink", "add", "Fibre", "--rate", "20Mbit/s", "--allowance", "500GB"], "");
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    service.flow("Line", 50);
    assert!(service.stop());
    service.start_again();
    let sent = json(&service, &["uplink", "list"])[0]["sent_bytes"].as_u64().unwrap();
    assert!(sent > 50_000, "{sent} bytes");
}
