//! Secrets inside addresses: sealed, shown as a placeholder, kept when the shown form comes back.

use super::*;

#[rstest]
#[case::feed_query("/api/v1/feeds", json!({"name": "A", "url": "rtsp://192.0.2.8/cam?user=admin&password=planted-9"}), "url", "rtsp://192.0.2.8/cam?user=admin&password={secret}")]
#[case::feed_path("/api/v1/feeds", json!({"name": "A", "url": "rtsp://192.0.2.8/user=a_password=planted-9_channel=1"}), "url", "rtsp://192.0.2.8/user=a_password={secret}_channel=1")]
#[case::sub_stream("/api/v1/feeds", json!({"name": "A", "url": "rtsp://192.0.2.8/a", "sub_url": "rtsp://192.0.2.8/b?pwd=planted-9"}), "sub_url", "rtsp://192.0.2.8/b?pwd={secret}")]
#[case::server("/api/v1/destinations", json!({"name": "A", "server": "rtmp://h.example.net/live?auth=planted-9", "key": "another-long-key"}), "server", "rtmp://h.example.net/live?auth={secret}")]
#[case::backup("/api/v1/destinations", json!({"name": "A", "server": "rtmp://h.example.net/live", "backup_server": "rtmp://b.example.net/live?auth=planted-9", "key": "another-long-key"}), "backup_server", "rtmp://b.example.net/live?auth={secret}")]
#[actix_web::test]
async fn secret_in_an_address_is_sealed_and_kept_by_its_placeholder(
    #[case] uri: &str,
    #[case] new: Value,
    #[case] field: &str,
    #[case] shown: &str,
) {
    let service = service();
    fill(&service).await;
    let (status, added) = post(&service, uri, new).await;
    assert_eq!(status, 201, "{added}");
    let one = format!("{uri}/A");
    let (_, record) = get(&service, &one).await;
    assert_eq!(record[field], shown);
    let (_, book) = get(&service, "/api/v1/book").await;
    assert!(!format!("{added}{record}{book}").contains("planted"));
    // The shown form keeps the secret, and leaves no entry about it.
    let change = |value: &str| local(Method::PATCH, &one).set_json(json!({ field: value }));
    let (status, kept, _) = ask(&service, change(shown)).await;
    assert_eq!(status, 200, "{kept}");
    let last = || async { get(&service, "/api/v1/audit?about=A&limit=1").await.1[0]["fields"].clone() };
    assert_eq!(last().await, json!([]));
    let other = shown.replace("{secret}", "planted-8");
    assert_eq!(ask(&service, change(&other)).await.0, 200);
    assert_eq!(last().await, json!([{ "field": "address", "before": null, "after": null }]));
    // A place for a secret that is not stored.
    let unknown = format!("{shown}&token={{secret}}");
    let (status, problem, _) = ask(&service, change(&unknown)).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!(field)), "{problem}");
}

#[actix_web::test]
async fn web_address_of_a_contact_is_shown_shortened_and_kept_by_that_form() {
    let service = service();
    let channel = |url: &str| json!({ "type": "webhook", "url": url });
    let new = json!({ "name": "Desk", "channel": channel("https://hooks.example.net/T0/planted-path-9") });
    let (status, added) = post(&service, "/api/v1/contacts", new).await;
    assert_eq!(
        (status.as_u16(), &added["contact"]["channel"]["url"]),
        (201, &json!("https://hooks.example.net/…th-9"))
    );
    let change = |url: &str| {
        local(Method::PATCH, "/api/v1/contacts/Desk").set_json(json!({ "channel": channel(url) }))
    };
    assert_eq!(ask(&service, change("https://hooks.example.net/…th-9")).await.0, 200);
    let (status, problem, _) = ask(&service, change("https://hooks.example.net/…else")).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!("url")), "{problem}");
    assert_eq!(ask(&service, change("https://other.example.net/T0/planted-path-8")).await.0, 200);
    let (_, contact) = get(&service, "/api/v1/contacts/Desk").await;
    assert_eq!(contact["channel"]["url"], "https://other.example.net/…th-8");
    let (_, entries) = get(&service, "/api/v1/audit").await;
    assert!(!entries.to_string().contains("planted"), "{entries}");
}

#[actix_web::test]
async fn address_of_an_older_version_is_sealed_at_the_start() {
    use yonder_store::{FeedSettings, NewFeed};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    let key = || MasterKey::from_bytes(&[7; 32]);
    let settings = FeedSettings {
        name: "Old".into(),
        url: "rtsp://192.0.2.8/a?password=planted-9".into(),
        sub_url: None,
        transport: "auto".into(),
        user: None,
        pin: None,
        site: None,
        device: None,
        ingest_key_bits: None,
    };
    // Written past the checks of the service, as an older version did.
    let store = Store::open(&path, key()).unwrap();
    let feed = NewFeed {
        settings,
        password: None,
        address_secrets: None,
        ingest_key: None,
        ingest_passphrase: None,
    };
    store.add_feed(&feed, 1).unwrap();
    drop(store);
    let feed = Store::open(&path, key()).unwrap().feed("Old").unwrap();
    assert_eq!(feed.settings.url, "rtsp://192.0.2.8/a?password={secret}");
    assert!(feed.address_secrets.is_some());
}
