//! The path of a change: revision, audit entry, and credentials that end with their maker.

use super::people::{PASSWORD, Visitor, sign_in, staffed};
use super::*;

async fn audit(service: &Arc<Service>, query: &str) -> Vec<Value> {
    let (status, entries) = get(service, &format!("/api/v1/audit?{query}")).await;
    assert_eq!(status, 200, "{entries}");
    entries.as_array().unwrap().clone()
}

fn patch(uri: &str, body: Value) -> TestRequest {
    local(Method::PATCH, uri).set_json(body)
}

async fn revision(service: &Arc<Service>, uri: &str) -> i64 {
    get(service, uri).await.1["revision"].as_i64().unwrap()
}

#[actix_web::test]
async fn audit_entry_has_author_origin_and_both_states() {
    let service = staffed();
    fill(&service).await;
    let chief = sign_in(&service, "chief").await;
    let by_console = chief
        .request(Method::PATCH, "/api/v1/feeds/Summit")
        .peer_addr("192.0.2.44:5000".parse().unwrap())
        .set_json(json!({ "site": "Fell", "password": "another-planted-word" }));
    assert_eq!(ask(&service, by_console).await.0, 200);
    let by_command =
        patch("/api/v1/feeds/Summit", json!({ "name": "Top" })).insert_header(("User-Agent", "yonder/0.1.0"));
    assert_eq!(ask(&service, by_command).await.0, 200);
    let id = get(&service, "/api/v1/feeds/Top").await.1["id"].as_str().unwrap().to_owned();

    let entries = audit(&service, &format!("about={id}")).await;
    let shown: Vec<_> = entries
        .iter()
        .map(|entry| {
            let text = |field: &str| entry[field].as_str().unwrap_or_default().to_owned();
            [text("who"), text("origin"), text("address"), text("action"), text("name")]
        })
        .collect();
    assert_eq!(shown[0], ["local", "command-line", "", "changed", "Summit"]);
    assert_eq!(shown[1], ["chief", "console", "192.0.2.44", "changed", "Summit"]);
    assert_eq!(shown[2], ["local", "api", "", "added", "Summit"]);
    assert_eq!(entries[0]["fields"], json!([{ "field": "name", "before": "Summit", "after": "Top" }]));
    let fields = json!([
        { "field": "site", "before": null, "after": "Fell" },
        { "field": "password", "before": null, "after": null },
    ]);
    assert_eq!(entries[1]["fields"], fields);
    let text = Value::from(entries).to_string();
    assert!(!text.contains("planted"), "{text}");
}

#[rstest]
#[case::command_line("command-line", "local")]
#[case::api("api", "local")]
#[case::console("console", "chief")]
#[case::site_book("site-book", "chief")]
#[actix_web::test]
async fn same_change_has_the_same_entry_for_every_origin(#[case] origin: &str, #[case] who: &str) {
    let service = staffed();
    fill(&service).await;
    let chief = sign_in(&service, "chief").await;
    let uri = "/api/v1/feeds/Summit";
    let site = json!({ "site": "Fell" });
    let request = match origin {
        "command-line" => patch(uri, site).insert_header(("User-Agent", "yonder/0.1.0")),
        "api" => patch(uri, site),
        "console" => chief.request(Method::PATCH, uri).set_json(site),
        _ => {
            let feed =
                json!({ "name": "Summit", "url": "rtsp://192.0.2.7/main", "user": "rail", "site": "Fell" });
            let book = json!({ "book": { "feeds": [feed] } });
            chief.request(Method::POST, "/api/v1/book").set_json(book)
        }
    };
    let (status, answer, _) = ask(&service, request.peer_addr("192.0.2.44:5000".parse().unwrap())).await;
    assert_eq!(status, 200, "{answer}");
    let id = get(&service, uri).await.1["id"].clone();
    let mut entry = audit(&service, "kind=feed&limit=1").await.remove(0);
    for field in ["number", "at"] {
        assert!(entry.as_object_mut().unwrap().remove(field).is_some(), "{entry}");
    }
    let expected = json!({
        "who": who, "origin": origin, "address": "192.0.2.44", "action": "changed", "kind": "feed", "name": "Summit", "id": id,
        "fields": [{ "field": "site", "before": null, "after": "Fell" }],
    });
    assert_eq!(entry, expected);
}

#[actix_web::test]
async fn refused_change_leaves_no_entry_and_no_revision() {
    let service = service();
    fill(&service).await;
    let before = (audit(&service, "").await.len(), revision(&service, "/api/v1/feeds/Summit").await);
    for body in [json!({ "url": "http://192.0.2.7/" }), json!({ "pin": "no fingerprint" })] {
        assert_eq!(ask(&service, patch("/api/v1/feeds/Summit", body)).await.0, 422);
    }
    let remove = local(Method::DELETE, "/api/v1/feeds/Summit");
    assert_eq!(ask(&service, remove).await.0, 409);
    let after = (audit(&service, "").await.len(), revision(&service, "/api/v1/feeds/Summit").await);
    assert_eq!(before, after);
}

#[rstest]
#[case::relay("/api/v1/relays/Line", json!({ "hold_after_s": 9 }))]
#[case::feed("/api/v1/feeds/Summit", json!({ "site": "Fell" }))]
#[case::destination("/api/v1/destinations/One", json!({ "return_after_s": 60 }))]
#[actix_web::test]
async fn second_of_two_concurrent_edits_is_refused(#[case] uri: &str, #[case] body: Value) {
    let service = service();
    fill(&service).await;
    let seen = revision(&service, uri).await;
    let edit = |tag: String| patch(uri, body.clone()).insert_header(("If-Match", tag));
    assert_eq!(ask(&service, edit(format!("\"{seen}\""))).await.0, 200);
    let (status, problem, _) = ask(&service, edit(format!("\"{seen}\""))).await;
    assert_eq!((status.as_u16(), &problem["code"]), (412, &json!("request.stale")), "{problem}");
    assert!(revision(&service, uri).await > seen);
    let present = revision(&service, uri).await;
    assert_eq!(ask(&service, edit(format!("\"{present}\""))).await.0, 200);
    assert_eq!(ask(&service, edit("*".into())).await.0, 200);
    assert_eq!(ask(&service, edit("seven".into())).await.0, 422);
}

#[actix_web::test]
async fn start_and_stop_are_recorded_with_the_state_before_and_after() {
    let service = service();
    fill(&service).await;
    assert_eq!(post(&service, "/api/v1/relays/Line/start", json!({ "force": true })).await.0, 200);
    assert_eq!(post(&service, "/api/v1/relays/Line/hold", json!({})).await.0, 200);
    assert_eq!(post(&service, "/api/v1/relays/Line/stop", json!({})).await.0, 200);
    let entries = audit(&service, "about=Line&limit=3").await;
    let wanted: Vec<_> =
        entries.iter().map(|entry| (entry["action"].as_str().unwrap(), entry["fields"][0].clone())).collect();
    let from = |before: &str, after: &str| json!({ "field": "wanted", "before": before, "after": after });
    assert_eq!(
        wanted,
        [("stopped", from("hold", "off")), ("held", from("on", "hold")), ("start-forced", from("off", "on"))]
    );
}

#[actix_web::test]
async fn another_user_name_alone_keeps_the_password() {
    let service = service();
    fill(&service).await;
    let (status, feed, _) = ask(&service, patch("/api/v1/feeds/Summit", json!({ "user": "railway" }))).await;
    assert_eq!(
        (status.as_u16(), &feed["user"], &feed["has_password"]),
        (200, &json!("railway"), &json!(true))
    );
    let entry = audit(&service, "about=Summit&limit=1").await.remove(0);
    let fields = json!([{ "field": "user", "before": "rail", "after": "railway" }]);
    assert_eq!(entry["fields"], fields, "the password is the one that it was");
}

async fn make_token(service: &Arc<Service>, maker: &Visitor) -> String {
    let new = json!({ "name": "Wall display", "role": "admin" });
    let request = maker.request(Method::POST, "/api/v1/tokens").set_json(new);
    let (status, made, _) = ask(service, request).await;
    assert_eq!(status, 201, "{made}");
    made["secret"].as_str().unwrap().to_owned()
}

fn bearer(method: Method, uri: &str, token: &str) -> TestRequest {
    TestRequest::default().method(method).uri(uri).insert_header(("Authorization", format!("Bearer {token}")))
}

#[actix_web::test]
async fn tokens_and_invitations_of_a_removed_admin_are_invalid() {
    let service = staffed();
    fill(&service).await;
    service.auth().add_person("second chief", &PASSWORD.into(), Role::Admin).unwrap();
    let chief = sign_in(&service, "chief").await;
    let token = make_token(&service, &chief).await;
    // Records made with a token belong to the maker of the token.
    let invite = bearer(Method::POST, "/api/v1/invitations", &token)
        .set_json(json!({ "name": "guest of theirs", "role": "admin" }));
    let (_, invited, _) = ask(&service, invite).await;
    let reveal = || bearer(Method::POST, "/api/v1/destinations/One/reveal", &token).set_json(json!({}));
    assert_eq!(ask(&service, reveal()).await.0, 200);

    let demote = patch("/api/v1/people/chief", json!({ "role": "viewer" }));
    assert_eq!(ask(&service, demote).await.0, 200);
    assert_eq!(ask(&service, reveal()).await.0, 403);
    let code = json!({ "code": invited["code"] });
    let (_, offered) = post(&service, "/api/v1/invitations/look", code).await;
    assert_eq!(offered["role"], "viewer");

    assert_eq!(ask(&service, local(Method::DELETE, "/api/v1/people/chief")).await.0, 204);
    assert_eq!(ask(&service, reveal()).await.0, 401);
    let join = json!({ "code": invited["code"], "password": PASSWORD });
    assert_eq!(post(&service, "/api/v1/invitations/join", join).await.0, 403);
}

#[actix_web::test]
async fn unknown_record_is_not_found_for_any_revision() {
    let service = service();
    let edit = patch("/api/v1/feeds/Nowhere", json!({ "site": "x" })).insert_header(("If-Match", "\"3\""));
    let (status, problem, _) = ask(&service, edit).await;
    assert_eq!((status.as_u16(), &problem["code"]), (404, &json!("request.not-found")));
}

/// Relays are shown from memory. After each kind of change they agree with the records.
#[rstest]
#[case::start(Method::POST, "relays/Line/start", json!({ "force": true }))]
#[case::renamed_feed(Method::PATCH, "feeds/Summit", json!({ "name": "Top", "site": "Fell" }))]
#[case::renamed_destination(Method::PATCH, "destinations/One", json!({ "name": "First" }))]
#[case::renamed_relay(Method::PATCH, "relays/Line", json!({ "name": "Main line" }))]
#[case::other_destinations(Method::PATCH, "relays/Line", json!({ "to": ["Two"] }))]
#[case::removed(Method::DELETE, "relays/Line", json!(null))]
#[case::added(Method::POST, "relays", json!({ "name": "Another", "feed": "Summit", "to": ["Two"] }))]
#[case::site_book(Method::POST, "book", json!({ "book": { "relays": [
    { "name": "Line", "feed": "Summit", "to": ["One", "Two"] }, { "name": "Third", "feed": "Summit", "to": ["Two"] }] } }))]
#[actix_web::test]
async fn shown_relays_agree_with_the_records(#[case] method: Method, #[case] uri: &str, #[case] body: Value) {
    let service = service();
    fill(&service).await;
    let second =
        json!({"name": "Two", "server": "rtmp://ingest.example.net/live/", "key": "second-planted-key"});
    assert_eq!(post(&service, "/api/v1/destinations", second).await.0, 201);
    let before = get(&service, "/api/v1/relays").await.1;
    let (status, answer, _) = ask(&service, local(method, &format!("/api/v1/{uri}")).set_json(body)).await;
    assert!(status.is_success(), "{status} {answer}");

    let shown = get(&service, "/api/v1/relays").await.1;
    let stored = get(&service, "/api/v1/book").await.1;
    let stored = stored.get("book").unwrap_or(&stored);
    let names = |pushes: &Value| -> Value {
        pushes.as_array().unwrap().iter().map(|push| push["destination"].clone()).collect()
    };
    let relays = |all: &Value| all.as_array().unwrap().clone();
    let of_shown = relays(&shown)
        .iter()
        .map(|relay| json!([relay["name"], relay["feed"]["name"], names(&relay["pushes"])]))
        .collect::<Vec<_>>();
    let of_stored = relays(&stored["relays"])
        .iter()
        .map(|relay| json!([relay["name"], relay["feed"], relay["to"]]))
        .collect::<Vec<_>>();
    assert_eq!(of_shown, of_stored, "{shown} {stored}");
    for relay in shown.as_array().unwrap() {
        assert_eq!(relay["wanted"], stored["wanted"][relay["name"].as_str().unwrap()], "{stored}");
    }
    assert_ne!(shown, before, "the case changes what is shown");
}

#[rstest]
#[case::uplink("uplinks", json!({ "name": "Office", "rate": "20 Mbit/s" }), Method::PATCH, json!({ "rate": "30 Mbit/s" }))]
#[case::platform("platforms", json!({ "name": "Office" }), Method::PATCH, json!({ "rules": { "video.max-fps": "25" } }))]
#[case::pattern("patterns", json!({ "name": "Office", "template": "rtsp://{host}/a" }), Method::PUT,
    json!({ "name": "Office", "template": "rtsp://{host}/b" }))]
#[case::alert("alerts", json!({ "name": "Office", "when": "down 3m" }), Method::PATCH, json!({ "when": "down 5m" }))]
#[case::contact("contacts", json!({ "name": "Office", "channel": { "type": "webhook", "url": "https://hooks.example.net/a" } }),
    Method::PATCH, json!({ "sign_of_life_h": 24 }))]
#[case::person("people", Value::Null, Method::PATCH, json!({ "role": "operator" }))]
#[actix_web::test]
async fn every_kind_of_record_supports_if_match(
    #[case] collection: &str,
    #[case] new: Value,
    #[case] method: Method,
    #[case] change: Value,
) {
    let service = staffed();
    if new.is_null() {
        service.auth().add_person("Office", &PASSWORD.into(), Role::Viewer).unwrap();
    } else {
        let (status, added, _) =
            ask(&service, local(Method::POST, &format!("/api/v1/{collection}")).set_json(&new)).await;
        assert_eq!(status, 201, "{added}");
    }
    let uri = format!("/api/v1/{collection}/Office");
    let listed = || async {
        let all = get(&service, &format!("/api/v1/{collection}")).await.1;
        let found = all.as_array().unwrap().iter().find(|record| record["name"] == "Office");
        let record = found.unwrap().clone();
        (record["id"].as_str().unwrap().to_owned(), record["revision"].as_i64().unwrap())
    };
    let (id, revision) = listed().await;
    assert!(!id.is_empty());
    let edit = |revision: i64| {
        local(method.clone(), &uri).set_json(&change).insert_header(("If-Match", format!("\"{revision}\"")))
    };
    let (status, edited, _) = ask(&service, edit(revision)).await;
    assert_eq!(status, 200, "{edited}");
    assert_eq!(listed().await.0, id);
    assert_eq!(edited["id"], id.as_str(), "{edited}");
    assert!(edited["revision"].as_i64().unwrap() > revision, "{edited}");
    let (status, refused, _) = ask(&service, edit(revision)).await;
    assert_eq!(status, 412, "{refused}");
}

#[actix_web::test]
async fn a_token_has_an_id_and_a_revision() {
    let service = staffed();
    let (status, made, _) =
        ask(&service, local(Method::POST, "/api/v1/tokens").set_json(json!({ "name": "wall" }))).await;
    assert_eq!(status, 201, "{made}");
    let listed = get(&service, "/api/v1/tokens").await.1;
    assert_eq!(
        (&listed[0]["id"], &listed[0]["revision"]),
        (&made["token"]["id"], &made["token"]["revision"]),
        "{made}"
    );
    assert!(!made["token"]["id"].as_str().unwrap().is_empty());
}
