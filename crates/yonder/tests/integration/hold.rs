//! Holding pictures, by command.

use std::fs;
use std::time::{Duration, Instant};

use crate::support::{Service, WAIT_TIMEOUT, World, text};

/// A PNG of 16×16 samples, all of one color.
const PICTURE: &[u8] = include_bytes!("../data/holding.png");

fn running() -> (Service, World) {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    (service, world)
}

fn wait_push(service: &Service, state: &str) {
    service.wait("Line", state, |relay| relay["pushes"][0]["state"] == state);
}

fn wait_for_line(service: &Service, said: &str) {
    let deadline = Instant::now() + WAIT_TIMEOUT;
    while !service.must(&["logbook"], "").contains(said) {
        assert!(Instant::now() < deadline, "{said:?} is not in {}", service.must(&["logbook"], ""));
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_person_holds_and_resumes_and_a_crash_in_between_changes_nothing() {
    let (mut service, _world) = running();
    let shown = service.must(&["relay", "hold", "Line"], "");
    // The slate is being rendered, or is on the output.
    assert!(shown.starts_with("Line  hold"), "{shown}");
    wait_push(&service, "holding");
    let relay = service.relay("Line");
    assert_eq!((&relay["wanted"], &relay["feed"]["state"]), (&"hold".into(), &"flowing".into()));
    assert!(service.must(&["status"], "").contains("holding"));
    service.kill();
    service.start_again();
    wait_push(&service, "holding");
    service.must(&["relay", "resume", "Line"], "");
    service.wait_live("Line");
    assert_eq!(service.relay("Line")["wanted"], "on");
    wait_for_line(&service, "resumed by local");
    assert!(service.must(&["logbook"], "").contains("held by local"));
    service.must(&["relay", "stop", "Line"], "");
    let refused = service.run(&["relay", "hold", "Line"]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains("(relay.off)"), "{}", text(&refused.stderr));
}

#[test]
fn absent_camera_is_held_and_summarized_in_the_logbook() {
    let (service, world) = running();
    let set = "broadcast.survives-silence=1s";
    service.must(&["platform", "add", "Hasty", "--set", set], "");
    service.must(&["destination", "edit", "Bramble", "--platform", "Hasty"], "");
    service.must(&["relay", "edit", "Line", "--hold-after", "1s"], "");
    assert_eq!(service.relay("Line")["hold_after_s"], 1);
    world.camera_off();
    wait_push(&service, "holding");
    let status = service.must(&["status"], "");
    assert!(status.contains("Camera side."), "{status}");
    service.flow("Line", 60);
    world.camera_on();
    service.wait_live("Line");
    wait_for_line(&service, "Hasty ends one after 1 s of silence.");
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);

    service.must(&["relay", "edit", "Line", "--hold-after", "never"], "");
    world.camera_off();
    wait_push(&service, "waiting");
    let relay = service.wait("Line", "reconnecting", |relay| relay["feed"]["attempts"].as_u64() >= Some(3));
    assert_eq!(relay["pushes"][0]["state"], "waiting", "{relay:#}");
}

#[test]
fn own_picture_replaces_the_default_card() {
    let (service, _world) = running();
    let out = service.home.path().join("shown.png");
    let sample = || {
        service.must(&["relay", "holding-picture", "Line", "--out", out.to_str().unwrap()], "");
        fs::read(&out).unwrap()
    };
    let card = sample();
    assert!(card.starts_with(b"\x89PNG") && card.len() > 10_000);
    let own = service.home.path().join("own.png");
    fs::write(&own, PICTURE).unwrap();
    service.must(&["relay", "edit", "Line", "--holding-picture", own.to_str().unwrap()], "");
    let shown = sample();
    assert!(shown.starts_with(b"\x89PNG") && shown != card);
    assert_eq!(service.relay("Line")["holding_picture"], true);

    let wrong = service.file("wrong.png", "no picture");
    let refused = service.run(&["relay", "edit", "Line", "--holding-picture", &wrong]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains("no PNG or JPEG"), "{}", text(&refused.stderr));
    let large = service.home.path().join("large.png");
    fs::write(&large, vec![0; 9 * 1024 * 1024]).unwrap();
    let refused = service.run(&["relay", "edit", "Line", "--holding-picture", large.to_str().unwrap()]);
    assert_eq!(refused.status.code(), Some(1), "{}", text(&refused.stderr));
    assert_eq!(sample(), shown, "what was there stays");

    service.must(&["relay", "edit", "Line", "--holding-picture", "none"], "");
    assert_eq!(service.relay("Line")["holding_picture"], false);
}

#[test]
fn times_before_holding_are_whole_seconds_up_to_ten_minutes() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    for (time, code) in [("601s", 1), ("500ms", 2), ("soon", 2)] {
        let refused = service.run(&["relay", "edit", "Line", "--hold-after", time]);
        assert_eq!(refused.status.code(), Some(code), "{time}");
    }
    assert_eq!(service.relay("Line")["hold_after_s"], 3);
}
