//! The record, by command: what was down, for how long, and whose side it was.

use std::time::{Duration, Instant};

use crate::support;
use crate::support::{Service, WAIT_TIMEOUT, World};
use serde_json::Value;

fn json(service: &Service, arguments: &[&str]) -> Value {
    serde_json::from_str(&service.must(arguments, "")).unwrap()
}

/// The record is written a moment after what it tells of.
fn wait_for(service: &Service, arguments: &[&str], wished: impl Fn(&Value) -> bool) -> Value {
    let deadline = Instant::now() + WAIT_TIMEOUT;
    loop {
        let output = json(service, arguments);
        if wished(&output) {
            return output;
        }
        assert!(Instant::now() < deadline, "{arguments:?}: {output:#}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn outages<'a>(report: &'a Value, kind: &str) -> Vec<&'a Value> {
    report["outages"].as_array().unwrap().iter().filter(|outage| outage["kind"] == kind).collect()
}

fn running() -> (Service, World) {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    (service, world)
}

#[test]
fn outage_has_its_time_cause_and_fault_domain() {
    let (service, world) = running();
    wait_for(&service, &["report", "--json"], |report| report["lines"].as_array().unwrap().len() == 3);
    world.camera_off();
    service.wait("Line", "without its camera", |relay| relay["feed"]["state"] != "flowing");
    let report = wait_for(&service, &["report", "--json"], |report| !outages(report, "feed").is_empty());
    assert_eq!(outages(&report, "feed")[0]["end"], Value::Null);
    world.camera_on();
    service.wait_live("Line");
    let ended =
        |report: &Value| outages(report, "push").first().is_some_and(|outage| !outage["end"].is_null());
    let report = wait_for(&service, &["report", "--json"], ended);

    let outage = outages(&report, "feed")[0];
    assert_eq!((&outage["name"], &outage["side"]), (&"Viaduct".into(), &"camera".into()));
    assert!(outage["code"].as_str().unwrap().starts_with("feed."), "{outage}");
    let push = outages(&report, "push")[0];
    assert_eq!(
        (&push["name"], &push["part"], &push["side"]),
        (&"Line".into(), &"Bramble".into(), &"camera".into())
    );
    let line =
        &report["lines"].as_array().unwrap().iter().find(|line| line["kind"] == "feed").unwrap().clone();
    assert_eq!(line["outages"], 1);
    assert!(line["availability_percent"].as_f64().unwrap() < 100.0, "{line}");

    let table = service.must(&["report"], "");
    assert!(table.contains("push Line → Bramble") && table.contains("camera "), "{table}");
    let csv = service.must(&["report", "--outages", "--csv"], "");
    let mut lines = csv.split("\r\n");
    assert_eq!(lines.next(), Some("kind,name,destination,begin,end,down_s,side,code,message"));
    assert!(lines.next().unwrap().split(',').count() >= 9);
    let nothing = service.must(&["report", "--month", "2020-01"], "");
    assert!(nothing.contains("No relay was on in this period."), "{nothing}");
}

#[test]
fn logbook_has_states_with_causes_and_actions() {
    let (service, world) = running();
    // Outages shorter than the poll interval are not recorded.
    let flows = |lines: &Value| {
        let mut lines = lines.as_array().unwrap().iter();
        lines.any(|line| line["kind"] == "feed" && line["what"] == "flowing")
    };
    wait_for(&service, &["logbook", "--json"], flows);
    world.camera_off();
    service.wait("Line", "without its camera", |relay| relay["feed"]["state"] != "flowing");
    let lost = |lines: &Value| {
        let mut lines = lines.as_array().unwrap().iter();
        lines.any(|line| line["kind"] == "feed" && !line["code"].is_null())
    };
    wait_for(&service, &["logbook", "--json"], lost);
    service.must(&["relay", "stop", "Line"], "");
    let off = |lines: &Value| lines.as_array().unwrap().iter().any(|line| line["what"] == "off");
    let lines = wait_for(&service, &["logbook", "--json"], off);
    let lines = lines.as_array().unwrap();
    let did = |what: &str, kind: &str| {
        lines.iter().any(|line| line["what"] == what && line["kind"] == kind && line["who"] == "local")
    };
    for (what, kind) in [
        ("added", "feed"),
        ("added", "destination"),
        ("added", "relay"),
        ("started", "relay"),
        ("stopped", "relay"),
    ] {
        assert!(did(what, kind), "{what} {kind}: {lines:#?}");
    }
    let flowed = lines.iter().position(|line| line["kind"] == "feed" && line["what"] == "flowing").unwrap();
    let lost = lines.iter().position(|line| line["kind"] == "feed" && !line["code"].is_null()).unwrap();
    assert!(flowed < lost);
    assert_eq!(lines[lost]["side"], "camera");
    assert!(lines.windows(2).all(|pair| pair[0]["id"].as_i64() < pair[1]["id"].as_i64()));

    let last = lines.last().unwrap()["id"].as_i64().unwrap();
    let about = json(&service, &["logbook", "--about", "bramble", "--json"]);
    let is_about = |line: &Value| line["name"] == "Bramble" || line["part"] == "Bramble";
    assert!(!about.as_array().unwrap().is_empty() && about.as_array().unwrap().iter().all(is_about));
    assert_eq!(json(&service, &["logbook", "--most", "1", "--json"])[0]["id"], last);
    let text = service.must(&["logbook", "--from", "1h"], "");
    assert!(text.contains("relay Line") && text.contains("started by local"), "{text}");
    assert!(text.contains("Camera side."), "{text}");
    assert!(service.must(&["logbook", "--csv"], "").starts_with("at,kind,name,destination,what,code"));
}

#[test]
fn crash_is_distinguished_from_an_orderly_stop() {
    let (mut service, _world) = running();
    wait_for(&service, &["report", "--json"], |report| report["lines"].as_array().unwrap().len() == 3);
    service.kill();
    service.start_again();
    service.wait_live("Line");
    let of_code = |report: &Value, code: &str| {
        let mut outages = outages(report, "push").into_iter();
        outages.any(|outage| outage["code"] == code && !outage["end"].is_null())
    };
    let crashed = |report: &Value| of_code(report, "service.not-running");
    let report = wait_for(&service, &["report", "--json"], crashed);
    assert!(outages(&report, "push").iter().all(|outage| outage["side"] == "ours"), "{report:#}");

    let output = "service yonder  started";
    let log = service.must(&["logbook", "--about", "yonder"], "");
    assert_eq!(
        (log.matches(output).count(), log.matches("a crash, or a power cut").count()),
        (2, 1),
        "{log}"
    );
    assert!(service.stop());
    service.start_again();
    service.wait_live("Line");
    let stopped = |report: &Value| of_code(report, "service.stopped");
    let report = wait_for(&service, &["report", "--json"], stopped);
    let line = report["lines"].as_array().unwrap().iter().find(|line| line["kind"] == "push").unwrap();
    let sides: Vec<_> =
        line["shares"].as_array().unwrap().iter().map(|share| share["side"].clone()).collect();
    assert!(sides.contains(&"planned".into()) && sides.contains(&"ours".into()), "{line}");
    assert_eq!(line["outages"], 2);
}

#[test]
fn invalid_queries_are_refused_with_the_field() {
    let service = Service::start();
    for (arguments, field) in [
        (vec!["report", "--month", "2026-13"], "month"),
        (vec!["logbook", "--most", "0"], "most"),
        (vec!["logbook", "--most", "10001"], "most"),
    ] {
        let output = service.run(&arguments);
        assert_eq!(output.status.code(), Some(1), "{arguments:?}");
        assert!(
            support::text(&output.stderr).contains("(request.invalid)"),
            "{field}: {}",
            support::text(&output.stderr)
        );
    }
    assert_eq!(service.run(&["logbook", "--from", "yesterday"]).status.code(), Some(2));
    assert!(service.must(&["logbook", "--about", "Nobody"], "").contains("No logbook entry matches"));
}

#[test]
fn rates_are_kept_by_the_second_and_by_the_minute_through_a_restart() {
    let (mut service, _world) = running();
    let measured = |rates: &Value| {
        let sum = |values: &Value| {
            values.as_array().unwrap().iter().filter(|value| value.as_u64() > Some(100)).count()
        };
        sum(&rates["feed"]) > 3 && sum(&rates["pushes"][0]["kbps"]) > 3
    };
    let rates = wait_for(&service, &["relay", "rates", "Line", "--json"], measured);
    assert_eq!((&rates["step_s"], rates["feed"].as_array().unwrap().len()), (&1.into(), 3_600));
    let curve = service.must(&["relay", "rates", "Line"], "");
    assert!(curve.contains("→ Bramble") && curve.contains("at most"), "{curve}");
    let csv = service.must(&["relay", "rates", "Line", "--csv"], "");
    assert!(csv.starts_with("at,feed_kbps,Bramble\r\n") && csv.lines().count() == 3_601);
    let month = |service: &Service| json(service, &["relay", "rates", "Line", "--over", "month", "--json"]);
    let known =
        |rates: &Value| rates["feed"].as_array().unwrap().iter().filter(|value| !value.is_null()).count();
    // A minute is kept once the next begins.
    wait_for_long(&service, &["relay", "rates", "Line", "--over", "month", "--json"], |rates| {
        known(rates) > 0
    });
    assert!(service.stop());
    service.start_again();
    assert!(known(&month(&service)) > 0);
    assert_eq!(service.run(&["relay", "rates", "Nowhere"]).status.code(), Some(1));
}

fn wait_for_long(service: &Service, arguments: &[&str], wished: impl Fn(&Value) -> bool) {
    let deadline = Instant::now() + Duration::from_secs(75);
    while !wished(&json(service, arguments)) {
        assert!(Instant::now() < deadline, "{arguments:?}");
        std::thread::sleep(Duration::from_millis(500));
    }
}
