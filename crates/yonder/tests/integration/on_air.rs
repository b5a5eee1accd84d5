//! On-air windows and rollovers, by command.

use std::time::{Duration, Instant};

use crate::support::{Service, WAIT_TIMEOUT, World, text};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Value, json};

fn started() -> (Service, World) {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    (service, world)
}

/// A window around now that is open, or one that is not, by the clock in UTC.
fn window(open: bool) -> String {
    let now = Timestamp::now().to_zoned_datetime(TimeZone::UTC);
    let hours = |from: i64, to: i64| {
        let at = |hours: i64| {
            let then = now.checked_add(jiff::Span::new().hours(hours)).unwrap();
            then.strftime("%H:%M").to_string()
        };
        format!("daily {}-{}", at(from), at(to))
    };
    if open { hours(-2, 2) } else { hours(2, 4) }
}

fn wait_for_line(service: &Service, said: &str) {
    let deadline = Instant::now() + WAIT_TIMEOUT;
    while !service.must(&["logbook"], "").contains(said) {
        assert!(Instant::now() < deadline, "{said:?} is not in {}", service.must(&["logbook"], ""));
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_relay_runs_within_its_windows_only_and_tells_when_they_change() {
    let (mut service, _world) = started();
    let closed = window(false);
    let shown = service.must(&["relay", "edit", "Line", "--on-air", &closed, "--zone", "UTC"], "");
    assert!(shown.contains("off air until") && shown.contains(&closed), "{shown}");
    let relay = service.relay("Line");
    assert_eq!((&relay["wanted"], &relay["on_air"]["now"]), (&"on".into(), &false.into()));
    service
        .wait("Line", "off", |relay| relay["feed"]["state"] == "off" && relay["pushes"][0]["state"] == "off");
    // Time off the air is not counted as down.
    service.kill();
    service.start_again();
    assert_eq!(service.relay("Line")["feed"]["state"], "off");
    let open = window(true);
    let shown = service.must(&["relay", "edit", "Line", "--on-air", &open], "");
    assert!(shown.contains("on air until"), "{shown}");
    service.wait_live("Line");
    service.must(&["relay", "edit", "Line", "--on-air", "always"], "");
    assert!(service.relay("Line")["on_air"].is_null());
    service.wait_live("Line");
}

#[test]
fn a_window_opens_by_itself() {
    let (service, _world) = started();
    // The next full minute is at most a minute away; the window of the minute that runs has just closed or closes then.
    let now = Timestamp::now().to_zoned_datetime(TimeZone::UTC);
    let next = now.checked_add(jiff::Span::new().minutes(1)).unwrap();
    let window = format!("daily {}-{}", next.strftime("%H:%M"), now.strftime("%H:%M"));
    service.must(&["relay", "edit", "Line", "--on-air", &window, "--zone", "UTC"], "");
    let deadline = Instant::now() + Duration::from_secs(75);
    while service.relay("Line")["pushes"][0]["state"] != "live" {
        assert!(Instant::now() < deadline, "{:#}", service.relay("Line"));
        std::thread::sleep(Duration::from_millis(200));
    }
    wait_for_line(&service, "on-air");
    let entries: Value =
        serde_json::from_str(&service.must(&["audit", "--who", "schedule", "--json"], "")).unwrap();
    let entry = &entries[0];
    assert_eq!(
        (&entry["origin"], &entry["action"], &entry["kind"], &entry["name"]),
        (&json!("schedule"), &json!("on-air"), &json!("relay"), &json!("Line")),
        "{entries}"
    );
    assert_eq!(entry["id"], service.relay("Line")["id"], "{entries}");
    assert_eq!(
        entry["fields"],
        json!([{ "field": "window", "before": "off air", "after": "on air" }]),
        "{entries}"
    );
}

#[test]
fn a_broadcast_rolls_over_before_its_platform_ends_it() {
    let (service, _world) = started();
    // Nine tenths of about five seconds.
    service.must(&["platform", "add", "Hasty", "--set", "broadcast.longest=0.0014h"], "");
    service.must(&["destination", "edit", "Bramble", "--platform", "Hasty"], "");
    service.must(&["relay", "edit", "Line", "--quiet-minute", "04:00"], "");
    assert_eq!(service.relay("Line")["quiet_minute"], "04:00");
    let deadline = Instant::now() + Duration::from_secs(40);
    while service.relay("Line")["pushes"][0]["reconnects"] == 0 {
        assert!(Instant::now() < deadline, "{:#}", service.relay("Line"));
        std::thread::sleep(Duration::from_millis(100));
    }
    service.wait_live("Line");
    wait_for_line(&service, "A planned reconnect to Bramble");
    // It takes a moment only; if it is seen at all, it was meant.
    let report = service.must(&["report", "--outages"], "");
    assert!(!report.contains("platform"), "{report}");
    service.must(&["relay", "edit", "Line", "--quiet-minute", "none"], "");
    assert!(service.relay("Line")["quiet_minute"].is_null());
}

#[test]
fn invalid_times_are_refused_and_nothing_changes() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    for (option, value, said) in [
        ("--on-air", "weekdays 08:00-18:00", "is not a day"),
        ("--on-air", "daily 25:00-18:00", "is not a time of day"),
        ("--zone", "Fell/Summit", "is not a time zone"),
        ("--quiet-minute", "four", "is not a time of day"),
    ] {
        let refused = service.run(&["relay", "edit", "Line", option, value]);
        assert_eq!(refused.status.code(), Some(1), "{option} {value}");
        assert!(text(&refused.stderr).contains(said), "{}", text(&refused.stderr));
    }
    assert!(service.relay("Line")["on_air"].is_null());
}

#[test]
fn a_window_closes_while_the_disk_hangs() {
    let (service, hang) = Service::start_with_disk_that_can_hang();
    let world = World::start();
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    // Open until the end of this minute, or of the next where this one is nearly over.
    let now = Timestamp::now().to_zoned_datetime(TimeZone::UTC);
    let minutes = if now.second() > 45 { 2 } else { 1 };
    let end = now.checked_add(jiff::Span::new().minutes(minutes)).unwrap();
    let begin = now.checked_sub(jiff::Span::new().minutes(10)).unwrap();
    let window = format!("daily {}-{}", begin.strftime("%H:%M"), end.strftime("%H:%M"));
    service.must(&["relay", "edit", "Line", "--on-air", &window, "--zone", "UTC"], "");
    service.wait_live("Line");
    std::fs::write(&hang, "").unwrap();
    let deadline = Instant::now() + Duration::from_secs(90);
    while service.relay("Line")["feed"]["state"] != "off" {
        assert!(Instant::now() < deadline, "{:#}", service.relay("Line"));
        std::thread::sleep(Duration::from_millis(200));
    }
    std::fs::remove_file(&hang).unwrap();
    wait_for_line(&service, "off-air");
}
