//! The site book over the API.

use super::*;

async fn apply(service: &Arc<Service>, book: Value) -> (StatusCode, Value) {
    post(service, "/api/v1/book", json!({ "book": book })).await
}

async fn book(service: &Arc<Service>) -> Value {
    get(service, "/api/v1/book").await.1
}

/// Returns the stored book, without output-only fields.
async fn exported(service: &Arc<Service>) -> Value {
    let mut book = book(service).await;
    book.as_object_mut().unwrap().remove("sealed");
    book
}

#[actix_web::test]
async fn exported_book_lists_secrets_without_their_values() {
    let service = service();
    fill(&service).await;
    let book = book(&service).await;
    assert!(!book.to_string().contains("planted"), "{book}");
    assert_eq!(
        book["sealed"],
        json!([
            { "kind": "feed", "name": "Summit", "field": "password" },
            { "kind": "destination", "name": "One", "field": "key" },
        ])
    );
    assert_eq!(book["wanted"], json!({ "Line": "off" }));
}

#[actix_web::test]
async fn applying_an_exported_book_changes_nothing() {
    let service = service();
    fill(&service).await;
    let (status, outcome) = apply(&service, exported(&service).await).await;
    assert_eq!((status.as_u16(), &outcome["changes"]), (200, &json!([])), "{outcome}");
    let (_, revealed) = post(&service, "/api/v1/destinations/One/reveal", json!({})).await;
    assert_eq!(revealed["key"], "planted-stream-key");
}

#[actix_web::test]
async fn dry_run_changes_nothing() {
    let service = service();
    fill(&service).await;
    let before = book(&service).await;
    let request = json!({ "book": {}, "prune": true, "look_only": true });
    let (_, outcome) = post(&service, "/api/v1/book", request).await;
    assert_eq!(outcome["applied"], false);
    let removed: Vec<&str> = outcome["changes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|change| change["kind"].as_str().unwrap())
        .collect();
    assert_eq!(removed[..3], ["relay", "destination", "feed"]);
    assert_eq!(book(&service).await, before);
}

#[actix_web::test]
async fn all_errors_are_reported_and_nothing_is_stored() {
    let service = service();
    fill(&service).await;
    let before = book(&service).await;
    let wrong = json!({
        "uplinks": [{ "name": "Fibre", "rate": "fast" }, { "name": "Radio", "rate": "5Mbit/s" }],
        "feeds": [{ "name": "Shed", "url": "http://192.0.2.9/" }, { "name": "Moor", "url": "rtsp://192.0.2.9/" },
            { "name": "MOOR", "url": "rtsp://192.0.2.9/" }],
        "relays": [{ "name": "Shed line", "feed": "Shed", "to": ["One"] }],
        "contacts": [{ "name": "Desk", "channel": { "type": "webhook", "url": "https://hooks.example.net/a" } }],
        "wanted": { "Line": "maybe", "Nobody": "on" },
    });
    let (status, problem) = apply(&service, wrong).await;
    assert_eq!((status.as_u16(), &problem["code"]), (422, &json!("book.refused")));
    let faults: Vec<(&str, &str)> = problem["faults"]
        .as_array()
        .unwrap()
        .iter()
        .map(|fault| (fault["name"].as_str().unwrap(), fault["code"].as_str().unwrap()))
        .collect();
    // The relay of the refused feed is not reported separately.
    assert_eq!(
        faults,
        [
            ("Fibre", "request.invalid"),
            ("Shed", "request.invalid"),
            ("MOOR", "request.name-taken"),
            ("Desk", "request.invalid"),
            ("Line", "request.invalid"),
            ("Nobody", "request.not-found"),
        ],
        "{problem}"
    );
    assert_eq!(book(&service).await, before);
}

#[actix_web::test]
async fn uplink_and_its_bindings_are_removed_in_one_book() {
    let service = service();
    fill(&service).await;
    let mut bound = exported(&service).await;
    bound["uplinks"] = json!([{ "name": "Fibre", "rate": "40Mbit/s", "source": "192.0.2.7" }]);
    bound["destinations"][0]["uplinks"] = json!(["Fibre"]);
    let (status, outcome) = apply(&service, bound.clone()).await;
    assert_eq!(status.as_u16(), 200, "{outcome}");
    // While the destination is bound to it, the uplink keeps what binds.
    bound["uplinks"][0].as_object_mut().unwrap().remove("source");
    let (status, problem) = apply(&service, bound.clone()).await;
    assert_eq!(
        (status.as_u16(), &problem["faults"][0]["code"]),
        (422, &json!("request.in-use")),
        "{problem}"
    );
    bound["destinations"][0].as_object_mut().unwrap().remove("uplinks");
    let (status, outcome) = apply(&service, bound).await;
    let changed: Vec<&str> = outcome["changes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|change| change["name"].as_str().unwrap())
        .collect();
    assert_eq!((status.as_u16(), changed), (200, vec!["One", "Fibre"]), "{outcome}");
}

#[actix_web::test]
async fn stopped_relays_are_returned_for_start_and_running_ones_are_stopped() {
    let service = service();
    fill(&service).await;
    let mut wanted = exported(&service).await;
    wanted["wanted"] = json!({ "Line": "hold" });
    let (_, outcome) = apply(&service, wanted.clone()).await;
    assert_eq!(outcome["to_start"], json!([{ "relay": "Line", "wanted": "hold" }]), "{outcome}");
    assert_eq!(get(&service, "/api/v1/relays/Line").await.1["wanted"], "off");
    let start = post(&service, "/api/v1/relays/Line/start", json!({ "force": true })).await;
    assert_eq!(start.0, 200, "{}", start.1);
    wanted["wanted"] = json!({ "Line": "off" });
    let (_, outcome) = apply(&service, wanted).await;
    let field = json!({ "field": "wanted", "before": "on", "after": "off" });
    assert_eq!(outcome["changes"][0]["fields"], json!([field]), "{outcome}");
    let (_, relay) = get(&service, "/api/v1/relays/Line").await;
    assert_eq!((&relay["wanted"], &relay["feed"]["state"]), (&json!("off"), &json!("off")));
}

#[actix_web::test]
async fn only_books_may_have_large_bodies() {
    let service = service();
    let uplinks: Vec<Value> = (0..1_200)
        .map(|at| json!({"name": format!("Uplink number {at} of the hills"), "rate": "20Mbit/s"}))
        .collect();
    let request = json!({"book": {"uplinks": uplinks}, "look_only": true});
    assert!(request.to_string().len() > 65_536);
    let (status, outcome) = post(&service, "/api/v1/book", request).await;
    assert_eq!(
        (status.as_u16(), outcome["changes"].as_array().map(Vec::len)),
        (200, Some(1_200)),
        "{outcome}"
    );
    let long = json!({"name": "a".repeat(70_000), "password": "x"});
    let (status, problem) = post(&service, "/api/v1/session", long).await;
    assert_eq!((status.as_u16(), &problem["code"]), (422, &json!("request.malformed")));
}
