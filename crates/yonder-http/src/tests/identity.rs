//! Renames and removals: history, alerts and plans refer to records, not to their names.

use super::*;

async fn send(service: &Arc<Service>, method: Method, uri: &str, body: Value) -> Value {
    let (status, value, _) = ask(service, local(method, uri).set_json(body)).await;
    assert!(status.is_success(), "{uri}: {value}");
    value
}

async fn rename(service: &Arc<Service>, uri: &str, name: &str) {
    send(service, Method::PATCH, uri, json!({ "name": name })).await;
}

/// Starts the relay and waits until its run is recorded.
async fn start(service: &Arc<Service>, relay: &str) {
    send(service, Method::POST, &format!("/api/v1/relays/{relay}/start"), json!({ "force": true })).await;
    service.history().observe().unwrap();
}

async fn lines(service: &Arc<Service>, kind: &str) -> Vec<String> {
    let (_, report) = get(service, "/api/v1/report").await;
    let lines = report["lines"].as_array().unwrap().iter();
    lines.filter(|line| line["kind"] == kind).map(|line| line["name"].as_str().unwrap().to_owned()).collect()
}

#[actix_web::test]
async fn renamed_records_have_one_line_each_in_the_report() {
    let service = service();
    fill(&service).await;
    start(&service, "Line").await;
    send(&service, Method::POST, "/api/v1/relays/Line/stop", json!({})).await;
    service.history().observe().unwrap();
    rename(&service, "/api/v1/feeds/Summit", "Top").await;
    rename(&service, "/api/v1/destinations/One", "Bramble").await;
    rename(&service, "/api/v1/relays/Line", "Line East").await;
    start(&service, "Line%20East").await;
    assert_eq!(lines(&service, "relay").await, ["Line East"]);
    assert_eq!(lines(&service, "push").await, ["Line East"]);
    assert_eq!(lines(&service, "feed").await, ["Top"]);
    let (_, log) = get(&service, "/api/v1/logbook?about=Top&kind=feed").await;
    let names: Vec<_> = log.as_array().unwrap().iter().map(|line| line["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"Summit"), "lines keep the name of their time: {log}");
    let (_, feed) = get(&service, "/api/v1/feeds/Top").await;
    assert!(log.as_array().unwrap().iter().all(|line| line["record_id"] == feed["id"]), "{log}");
    let (_, by_id) = get(&service, &format!("/api/v1/logbook?about={}", feed["id"].as_str().unwrap())).await;
    assert_eq!(by_id.as_array().unwrap().len(), log.as_array().unwrap().len());
}

#[actix_web::test]
async fn new_relay_does_not_inherit_the_history_of_a_removed_one() {
    let service = service();
    fill(&service).await;
    start(&service, "Line").await;
    assert_eq!(ask(&service, local(Method::DELETE, "/api/v1/relays/Line")).await.0, 204);
    let relay = json!({ "name": "Line", "feed": "Summit", "to": ["One"] });
    send(&service, Method::POST, "/api/v1/relays", relay).await;
    assert_eq!(lines(&service, "relay").await, ["Line (removed)"]);
    start(&service, "Line").await;
    assert_eq!(lines(&service, "relay").await, ["Line", "Line (removed)"]);
}

#[actix_web::test]
async fn alert_follows_the_record_that_it_is_about() {
    let service = service();
    fill(&service).await;
    let alert = |about: &str| json!({ "name": "Away", "when": "down 60s", "about": about });
    let (status, problem) = post(&service, "/api/v1/alerts", alert("Sumit")).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!("about")), "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains("\"Summit\""), "{problem}");
    let added = send(&service, Method::POST, "/api/v1/alerts", alert("summit")).await;
    assert_eq!(added["about"], "Summit");
    rename(&service, "/api/v1/feeds/Summit", "Top").await;
    assert_eq!(get(&service, "/api/v1/alerts/Away").await.1["about"], "Top");
    // As long as another record has the name, the alert stays with that.
    rename(&service, "/api/v1/relays/Line", "Top").await;
    rename(&service, "/api/v1/feeds/Top", "Summit").await;
    assert_eq!(get(&service, "/api/v1/alerts/Away").await.1["about"], "Top");
}

#[actix_web::test]
async fn plan_of_a_site_book_applies_to_the_revision_that_it_was_made_against() {
    let service = service();
    fill(&service).await;
    let feed = json!({ "name": "Summit", "url": "rtsp://192.0.2.7/main", "user": "rail", "site": "Fell" });
    let book = json!({ "feeds": [feed] });
    let plan = send(&service, Method::POST, "/api/v1/book", json!({ "book": book, "look_only": true })).await;
    let apply = json!({ "book": book, "expected_revision": plan["revision"] });
    send(&service, Method::PATCH, "/api/v1/relays/Line", json!({ "hold_after_s": 9 })).await;
    let (status, problem) = post(&service, "/api/v1/book", apply).await;
    assert_eq!((status.as_u16(), &problem["code"]), (412, &json!("request.stale")), "{problem}");
    let plan = send(&service, Method::POST, "/api/v1/book", json!({ "book": book, "look_only": true })).await;
    let apply = json!({ "book": book, "expected_revision": plan["revision"] });
    assert_eq!(send(&service, Method::POST, "/api/v1/book", apply).await["applied"], true);
}
