//! Destinations, platforms, uplinks, budget and preflight, as the API answers.

use super::*;

async fn change(service: &Arc<Service>, uri: &str, body: Value) -> (StatusCode, Value) {
    let (status, value, _) = ask(service, local(Method::PATCH, uri).set_json(body)).await;
    (status, value)
}

async fn remove(service: &Arc<Service>, uri: &str) -> (StatusCode, Value) {
    let (status, value, _) = ask(service, local(Method::DELETE, uri)).await;
    (status, value)
}

fn rule<'a>(platform: &'a Value, name: &str) -> Option<&'a str> {
    platform["rules"].as_array()?.iter().find(|rule| rule["rule"] == name)?["value"].as_str()
}

const SRT: &str = "srt://ingest.example.net:7777";
const HALL: &str = "srt://ingest.example.net:7777?streamid=hall";

#[actix_web::test]
async fn secrets_of_an_srt_address_are_sealed() {
    let service = service();
    let server = "srt://ingest.example.net:7777?mode=caller&transtype=live&latency=300000&pbkeylen=32&linger=0\
                  &passphrase=planted-passphrase&streamid=%23!::m=request,r=planted-stream";
    let (status, stored) =
        post(&service, "/api/v1/destinations", json!({"name": "One", "server": server})).await;
    assert_eq!(status.as_u16(), 201, "{stored}");
    let destination = &stored["destination"];
    assert_eq!(destination["server"], "srt://ingest.example.net:7777?latency=300", "{stored}");
    assert_eq!(destination["passphrase"]["key_length"], 256, "{stored}");
    let repairs = stored["repairs"].to_string();
    for repair in [
        "linger",
        "microseconds",
        "stream ID of the address was split off",
        "passphrase was split off",
        "lacks m=publish",
    ] {
        assert!(repairs.contains(repair), "{repair}: {repairs}");
    }
    assert!(!stored.to_string().contains("planted"), "{stored}");
}

#[rstest]
#[case::platform("platform", json!({"platform": "Brambel TV"}), 404, "request.not-found")]
#[case::backup("backup_server", json!({"backup_server": "http://backup.example.net/live"}), 422, "request.invalid")]
#[case::return_too_soon("return_after_s", json!({"return_after_s": 1}), 422, "request.invalid")]
#[case::watch_page("watch_page", json!({"watch_page": "rtmp://ingest.example.net/live"}), 422, "request.invalid")]
#[case::authority("authority", json!({"authority": "no certificate at all"}), 422, "request.invalid")]
#[case::expiry("key_expires", json!({"key_expires": "soon"}), 422, "request.invalid")]
#[case::key_length("key_length", json!({"server": SRT, "passphrase": "planted-passphrase", "key_length": 100}), 422, "request.invalid")]
#[case::short_passphrase("passphrase", json!({"server": SRT, "passphrase": "short"}), 422, "request.invalid")]
#[case::passphrase_for_rtmp("passphrase", json!({"passphrase": "planted-passphrase"}), 422, "request.invalid")]
#[case::short_passphrase_in_the_address("server", json!({"server": "srt://ingest.example.net:7777?passphrase=planted"}), 422, "request.invalid")]
#[case::watch_page_as_server("server", json!({"server": "https://bramble.example.net/watch/7"}), 422, "request.invalid")]
#[actix_web::test]
async fn invalid_destination_is_refused_by_its_field(
    #[case] field: &str,
    #[case] with: Value,
    #[case] status: u16,
    #[case] code: &str,
) {
    let service = service();
    let mut body =
        json!({"name": "One", "server": "rtmp://ingest.example.net/live", "key": "planted-stream-key"});
    body.as_object_mut().unwrap().extend(with.as_object().unwrap().clone());
    let (found, problem) = post(&service, "/api/v1/destinations", body).await;
    assert_eq!((found.as_u16(), problem["code"].as_str()), (status, Some(code)), "{problem}");
    if code == "request.invalid" {
        assert_eq!(problem["field"], field, "{problem}");
    }
    assert!(!problem.to_string().contains("planted"), "{problem}");
    assert!(problem["hint"].as_str().is_some_and(|hint| hint.len() > 10), "{problem}");
    assert!(service.records().destinations().unwrap().is_empty());
}

#[actix_web::test]
async fn duplicate_key_is_refused_with_the_other_destination() {
    let service = service();
    fill(&service).await;
    let same =
        |name: &str, server: &str| json!({"name": name, "server": server, "key": "planted-stream-key"});
    let twin = same("Two", "rtmp://INGEST.example.net:1935/live/");
    let (status, problem) = post(&service, "/api/v1/destinations", twin).await;
    assert_eq!(status, 409, "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains("One"), "{problem}");
    // Elsewhere it is another channel's key that happens to read the same.
    let (status, problem) =
        post(&service, "/api/v1/destinations", same("Two", "rtmp://ingest.example.com/live")).await;
    assert_eq!(status, 201, "{problem}");
}

#[actix_web::test]
async fn a_change_of_a_destination_keeps_its_secrets_and_what_it_leaves_out() {
    let service = service();
    let new = json!({
        "name": "Hall", "server": HALL, "passphrase": "planted-passphrase", "key_length": 256,
        "platform": "marrow hall", "watch_page": "https://marrow.example.net/fell",
    });
    let (status, stored) = post(&service, "/api/v1/destinations", new).await;
    assert_eq!(status, 201, "{stored}");
    // The stream ID is what the platform knows the channel by: it is sealed as its key is.
    assert_eq!(stored["destination"]["platform"], "Marrow Hall");
    assert!(
        !stored.to_string().contains("planted") && !stored.to_string().contains("streamid=hall"),
        "{stored}"
    );
    let (status, changed) =
        change(&service, "/api/v1/destinations/hall", json!({"watch_page": "", "return_after_s": 60})).await;
    assert_eq!(status, 200, "{changed}");
    let after = &changed["destination"];
    assert_eq!((&after["watch_page"], &after["return_after_s"]), (&Value::Null, &json!(60)));
    assert_eq!((&after["passphrase"]["key_length"], &after["encrypted"]), (&json!(256), &json!(true)));
    let (_, changed) = change(&service, "/api/v1/destinations/Hall", json!({"no_passphrase": true})).await;
    assert_eq!(changed["destination"]["passphrase"], Value::Null, "{changed}");
    let (_, revealed) = post(&service, "/api/v1/destinations/Hall/reveal", json!({})).await;
    assert_eq!(revealed["key"], "hall");
}

#[actix_web::test]
async fn sheets_are_copied_changed_and_removed() {
    let service = service();
    let (_, shipped) = get(&service, "/api/v1/platforms").await;
    let count = shipped.as_array().unwrap().len();
    let new = json!({"name": "Heather Live", "like": "thistle stage", "rules": {"video.max-fps": "25"}});
    let (status, added) = post(&service, "/api/v1/platforms", new).await;
    assert_eq!((status.as_u16(), &added["shipped"]), (201, &json!(false)), "{added}");
    assert_eq!((rule(&added, "video.max-lines"), rule(&added, "video.max-fps")), (Some("720"), Some("25")));
    let raise = json!({"rules": {"video.max-lines": "1080", "video.ceiling": "6 Mbit/s"}});
    let (status, changed) = change(&service, "/api/v1/platforms/heather%20live", raise).await;
    assert_eq!((status.as_u16(), rule(&changed, "video.max-lines")), (200, Some("1080")), "{changed}");
    let on_it = json!({"name": "One", "server": "rtmps://ingest.example.net/live", "key": "k-1", "platform": "Heather Live"});
    assert_eq!(post(&service, "/api/v1/destinations", on_it).await.0, 201);
    let (status, problem) = remove(&service, "/api/v1/platforms/Heather%20Live").await;
    assert_eq!((status.as_u16(), &problem["code"]), (409, &json!("request.in-use")), "{problem}");
    assert_eq!(remove(&service, "/api/v1/destinations/One").await.0, 204);
    assert_eq!(remove(&service, "/api/v1/platforms/Heather%20Live").await.0, 204);
    assert_eq!(get(&service, "/api/v1/platforms").await.1.as_array().unwrap().len(), count);
}

#[rstest]
#[case::unknown_rule(json!({"video.max-linse": "720"}), "video.max-lin")]
#[case::no_number(json!({"video.max-lines": "many"}), "many")]
#[case::rate_without_unit(json!({"video.ceiling": "6000"}), "6000")]
#[case::codec(json!({"video.codecs": "H.266"}), "H.266")]
#[case::keyframes_the_wrong_way_round(json!({"video.min-keyframe-interval": "5s", "video.max-keyframe-interval": "2s"}), "keyframe")]
#[actix_web::test]
async fn invalid_rule_is_refused_and_the_sheet_is_unchanged(#[case] rules: Value, #[case] detail: &str) {
    let service = service();
    let body = json!({"name": "Heather Live", "rules": rules});
    let (status, problem) = post(&service, "/api/v1/platforms", body).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!("rules")), "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains(detail), "{problem}");
    assert_eq!(get(&service, "/api/v1/platforms/Heather%20Live").await.0, 404);
    let (_, before) = get(&service, "/api/v1/platforms/Bramble%20TV").await;
    let (status, _) = change(&service, "/api/v1/platforms/Bramble%20TV", json!({"rules": rules})).await;
    assert_eq!(status, 422);
    assert_eq!(get(&service, "/api/v1/platforms/Bramble%20TV").await.1, before);
}

#[actix_web::test]
async fn changed_built_in_sheet_can_be_restored() {
    let service = service();
    let uri = "/api/v1/platforms/Bramble%20TV";
    let (_, before) = get(&service, uri).await;
    assert_eq!(before["shipped"], true);
    let (status, problem) = remove(&service, uri).await;
    assert_eq!((status.as_u16(), &problem["code"]), (422, &json!("request.invalid")), "{problem}");
    let (_, changed) = change(&service, uri, json!({"rules": {"video.max-lines": "480"}})).await;
    assert_eq!((rule(&changed, "video.max-lines"), &changed["shipped"]), (Some("480"), &json!(false)));
    assert_eq!(remove(&service, uri).await.0, 204);
    assert_eq!(get(&service, uri).await.1, before);
}

#[rstest]
#[case::no_unit("/api/v1/uplinks", json!({"name": "A", "rate": "20"}), "rate")]
#[case::no_rate("/api/v1/uplinks", json!({"name": "A", "rate": "0 Mbit/s"}), "rate")]
#[case::allowance("/api/v1/uplinks", json!({"name": "A", "rate": "20 Mbit/s", "allowance": "1 Mbit/s"}), "allowance")]
#[case::headroom("/api/v1/uplinks", json!({"name": "A", "rate": "20 Mbit/s", "headroom_percent": 100}), "headroom_percent")]
#[case::too_many("/api/v1/budget", json!({"more": 1_001}), "more")]
#[case::long_day("/api/v1/budget", json!({"hours": 25.0}), "hours")]
#[case::protocol("/api/v1/budget", json!({"more": 1, "over": "rtsp"}), "over")]
#[case::rate("/api/v1/budget", json!({"rate": "fast"}), "rate")]
#[actix_web::test]
async fn invalid_rates_are_refused_by_their_field(
    #[case] uri: &str,
    #[case] body: Value,
    #[case] field: &str,
) {
    let service = service();
    let (status, problem) = post(&service, uri, body).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!(field)), "{problem}");
    assert!(get(&service, "/api/v1/uplinks").await.1.as_array().unwrap().is_empty());
}

#[actix_web::test]
async fn budget_distinguishes_bits_and_bytes() {
    let service = service();
    fill(&service).await;
    for (name, rate) in [("Fibre", "20 Mbit/s"), ("Radio", "1500 kB/s")] {
        let body = json!({"name": name, "rate": rate, "allowance": "1 TB", "backup": name == "Radio"});
        assert_eq!(post(&service, "/api/v1/uplinks", body).await.0, 201);
    }
    let (_, uplinks) = get(&service, "/api/v1/uplinks").await;
    let rates: Vec<_> = uplinks.as_array().unwrap().iter().map(|uplink| uplink["up_kbps"].as_u64()).collect();
    assert_eq!(rates, [Some(20_000), Some(12_000)]);
    assert_eq!(uplinks[0]["allowance_bytes"], json!(1_000_000_000_000_u64));

    // Nothing runs; one push of 4 Mbit/s more by RTMP, 4.3 % on top.
    let ask = json!({"more": 1, "over": "rtmp", "rate": "4 Mbit/s", "destinations": 3});
    let (status, budget) = post(&service, "/api/v1/budget", ask).await;
    assert_eq!(status, 200, "{budget}");
    let fibre = &budget["uplinks"][0];
    assert_eq!((&fibre["uplink"]["name"], &fibre["verdict"]), (&json!("Fibre"), &json!("fits")), "{budget}");
    assert_eq!((&fibre["sum_kbps"], &fibre["usable_kbps"]), (&json!(4_172), &json!(15_000)), "{budget}");
    let each = budget["fits"][0]["each_kbps"].as_u64().unwrap();
    assert!((4_700..5_000).contains(&each), "{budget}");

    let ask = json!({"more": 5, "over": "rtmp", "rate": "4 Mbit/s"});
    let (_, budget) = post(&service, "/api/v1/budget", ask).await;
    assert_eq!(budget["uplinks"][0]["verdict"], "over", "{budget}");
    assert_eq!(change(&service, "/api/v1/uplinks/Fibre", json!({"rate": "100 Mbit/s"})).await.0, 200);
    let (_, budget) =
        post(&service, "/api/v1/budget", json!({"more": 5, "over": "rtmp", "rate": "4 Mbit/s"})).await;
    assert_eq!(budget["uplinks"][0]["verdict"], "fits", "{budget}");
    assert_eq!(remove(&service, "/api/v1/uplinks/Radio").await.0, 204);
    assert_eq!(remove(&service, "/api/v1/uplinks/Radio").await.0, 404);
}

#[actix_web::test]
async fn failing_preflight_refuses_a_start_unless_forced() {
    let service = service();
    // Ports on which nobody listens, so that both ends are looked for and not found at once.
    let feed = json!({"name": "Summit", "url": "rtsp://127.0.0.1:9/main"});
    assert_eq!(post(&service, "/api/v1/feeds", feed).await.0, 201);
    let one = json!({"name": "One", "server": "rtmp://127.0.0.1:9/live", "key": "planted-stream-key"});
    assert_eq!(post(&service, "/api/v1/destinations", one).await.0, 201);
    let relay = json!({"name": "Line", "feed": "Summit", "to": ["One"]});
    assert_eq!(post(&service, "/api/v1/relays", relay).await.0, 201);

    let (status, found) = post(&service, "/api/v1/relays/Line/preflight", json!({})).await;
    assert_eq!((status.as_u16(), &found["level"]), (200, &json!("fail")), "{found}");
    let failed: Vec<_> = found["checks"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|check| check["level"] == "fail")
        .map(|check| (check["subject"].as_str().unwrap(), check["check"].as_str().unwrap()))
        .collect();
    assert!(failed.contains(&("Summit", "pull")) && failed.contains(&("One", "server")), "{found}");
    let (status, problem) = post(&service, "/api/v1/relays/Line/start", json!({})).await;
    assert_eq!(status, 409, "{problem}");
    assert_eq!(get(&service, "/api/v1/relays/Line").await.1["wanted"], "off");
    let (status, started) = post(&service, "/api/v1/relays/Line/start", json!({"force": true})).await;
    assert_eq!((status.as_u16(), &started["wanted"]), (200, &json!("on")), "{started}");
    let (status, _) = post(&service, "/api/v1/relays/Line/stop", json!({})).await;
    assert_eq!(status, 200);
}

#[rstest]
#[case::relay("/api/v1/relays/Lien/preflight", json!({}), 404)]
#[case::rehearsed_relay("/api/v1/relays/Lien/rehearse", json!({}), 404)]
#[case::destination("/api/v1/relays/Line/rehearse", json!({"to": "Two"}), 422)]
#[case::protocol("/api/v1/relays/Line/rehearse", json!({"over": "rtsp"}), 422)]
#[case::sheet("/api/v1/relays/Line/rehearse", json!({"platform": "Brambel"}), 404)]
#[case::length("/api/v1/relays/Line/rehearse", json!({"for_s": 0}), 422)]
#[case::field("/api/v1/relays/Line/rehearse", json!({"for": 10}), 422)]
#[actix_web::test]
async fn checks_and_rehearsals_of_unknown_records_are_refused(
    #[case] uri: &str,
    #[case] body: Value,
    #[case] status: u16,
) {
    let service = service();
    fill(&service).await;
    let (found, problem) = post(&service, uri, body).await;
    assert_eq!(found.as_u16(), status, "{problem}");
    assert!(problem["detail"].as_str().is_some_and(|detail| detail.len() > 10), "{problem}");
}
