//! Pagination of lists.

use actix_web::http::header::LINK;

use super::*;
use yonder_core::FaultDomain;
use yonder_core::record::{HistoryEvent, OutageCause, Subject};

/// Follows the `Link` headers from `uri` on, and returns the pages.
async fn pages(service: &Arc<Service>, uri: &str) -> Vec<Value> {
    let mut next = Some(uri.to_owned());
    let mut pages = Vec::new();
    while let Some(uri) = next {
        let (status, page, response) = ask(service, local(Method::GET, &uri)).await;
        assert_eq!(status, 200, "{uri}: {page}");
        pages.push(page);
        assert!(pages.len() < 20, "no end after {uri}");
        let link = response.headers().get(LINK).map(|link| link.to_str().unwrap().to_owned());
        next = link.map(|link| {
            let address = link.strip_prefix('<').unwrap().strip_suffix(">; rel=\"next\"").unwrap();
            address.to_owned()
        });
    }
    pages
}

fn names(items: &Value) -> Vec<&str> {
    items.as_array().unwrap().iter().map(|item| item["name"].as_str().unwrap()).collect()
}

#[actix_web::test]
async fn pages_of_a_list_follow_one_another_without_gap_or_repetition() {
    let service = service();
    for name in ["Apron", "bandstand", "Crossing (north)", "Depot", "Engine shed"] {
        let feed = json!({ "name": name, "url": "rtsp://192.0.2.7/main" });
        assert_eq!(post(&service, "/api/v1/feeds", feed).await.0, 201);
    }
    let (_, all) = get(&service, "/api/v1/feeds").await;
    let found = pages(&service, "/api/v1/feeds?limit=2").await;
    let sizes: Vec<usize> = found.iter().map(|page| names(page).len()).collect();
    assert_eq!(sizes, [2, 2, 1]);
    assert_eq!(found.iter().flat_map(names).collect::<Vec<_>>(), names(&all));
    assert_eq!(pages(&service, "/api/v1/feeds?limit=5").await.len(), 1, "no empty page at the end");
    assert_eq!(pages(&service, "/api/v1/feeds?after=DEPOT").await, [json!([all[4]])]);
}

#[rstest]
#[case::of_none("limit=0", "limit")]
#[case::too_long("limit=10001", "limit")]
#[case::after_nothing("after=Nowhere", "after")]
#[actix_web::test]
async fn impossible_pages_are_refused(
    #[values(
        "alerts",
        "contacts",
        "destinations",
        "feeds",
        "invitations",
        "jobs",
        "patterns",
        "people",
        "platforms",
        "relays",
        "sessions",
        "tokens",
        "uplinks"
    )]
    list: &str,
    #[case] query: &str,
    #[case] field: &str,
) {
    let service = service();
    let (status, problem) = get(&service, &format!("/api/v1/{list}?{query}")).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!(field)), "{problem}");
}

#[actix_web::test]
async fn outages_of_a_report_come_in_pages() {
    let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
    let now_ms = i64::try_from(std::time::SystemTime::UNIX_EPOCH.elapsed().unwrap().as_millis()).unwrap();
    let subject = || Subject::Feed("Summit".to_owned());
    let cause = || OutageCause {
        code: "feed.stalled".into(),
        side: FaultDomain::Camera,
        message: "Nothing came.".into(),
    };
    let mut events = vec![HistoryEvent::RunBegan { at_ms: now_ms - 60, subject: subject() }];
    for at_ms in (now_ms - 50..now_ms).step_by(10) {
        events.push(HistoryEvent::OutageBegan { at_ms, subject: subject(), cause: cause() });
        events.push(HistoryEvent::OutageEnded { at_ms: at_ms + 5, subject: subject() });
    }
    store.save_events(&events, now_ms, true).unwrap();
    let engine = Engine::new(tokio::runtime::Handle::current());
    let service = Arc::new(Service::new(store, engine, TOKEN.into()).unwrap());
    let found = pages(&service, "/api/v1/report?limit=2").await;
    let sizes: Vec<usize> = found.iter().map(|page| page["outages"].as_array().unwrap().len()).collect();
    assert_eq!((sizes, &found[0]["outage_count"]), (vec![2, 2, 1], &json!(5)));
    let (_, all) = get(&service, "/api/v1/report").await;
    assert_eq!(all["outages"].as_array().unwrap().len(), 5);
}
