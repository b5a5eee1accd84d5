//! `/metrics`, in both formats.

use actix_web::http::header::CONTENT_TYPE;

use super::*;

/// Returns the media type and the text for an `Accept` header.
async fn metrics(service: &Arc<Service>, accept: &str) -> (String, String) {
    let requests = crate::metrics::RequestMetrics::default();
    let app = init_service(
        App::new()
            .app_data(Data::from(Arc::clone(service)))
            .wrap(actix_web::middleware::from_fn(crate::metrics::count_request))
            .configure(configure(crate::Access::default(), crate::limits::Limits::default(), requests)),
    )
    .await;
    call_service(&app, local(Method::GET, "/api/v1/relays/Line").to_request()).await;
    call_service(&app, local(Method::GET, "/api/v1/relays/Other").to_request()).await;
    let request = local(Method::GET, "/metrics").insert_header(("Accept", accept));
    let response = call_service(&app, request.to_request()).await;
    assert_eq!(response.status(), 200, "{:?}", response.response().error());
    let media_type = response.headers().get(CONTENT_TYPE).unwrap().to_str().unwrap().to_owned();
    let text = to_bytes(response.into_body()).await.unwrap_or_default();
    (media_type, String::from_utf8(text.to_vec()).unwrap())
}

/// Adds a relay that runs, with a camera that is not there, and one of the same feed outside its windows.
async fn run_relays(service: &Arc<Service>) {
    let feed = json!({"name": "Summit main", "url": "rtsp://127.0.0.1:1/main"});
    assert_eq!(post(service, "/api/v1/feeds", feed).await.0, 201);
    for name in ["One", "Two"] {
        let destination =
            json!({"name": name, "server": "rtmp://127.0.0.1:1/live", "key": format!("key-of-{name}")});
        assert_eq!(post(service, "/api/v1/destinations", destination).await.0, 201);
    }
    let relay = json!({"name": "Line", "feed": "Summit main", "to": ["One"]});
    assert_eq!(post(service, "/api/v1/relays", relay).await.0, 201);
    // A date that is over.
    let relay =
        json!({"name": "Zed", "feed": "Summit main", "to": ["Two"], "on_air": ["2020-01-01 08:00-09:00"]});
    let (status, problem) = post(service, "/api/v1/relays", relay).await;
    assert_eq!(status, 201, "{problem}");
    for name in ["Line", "Zed"] {
        let (status, problem) =
            post(service, &format!("/api/v1/relays/{name}/start"), json!({"force": true})).await;
        assert_eq!(status, 200, "{problem}");
    }
    for _ in 0..500 {
        let (_, relay) = get(service, "/api/v1/relays/Line").await;
        if relay["feed"]["cause"].is_object() {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    panic!("the feed has no cause");
}

#[actix_web::test]
async fn feeds_and_pushes_are_those_of_the_engine_and_relays_those_of_the_records() {
    let service = service();
    run_relays(&service).await;
    let (media_type, text) = metrics(&service, "application/openmetrics-text; version=1.0.0").await;
    assert!(media_type.starts_with("application/openmetrics-text"), "{media_type}");
    for line in [
        r#"yonder_relay_wanted{relay="Zed"} 1"#,
        r#"yonder_relay_should_run{relay="Line"} 1"#,
        r#"yonder_relay_should_run{relay="Zed"} 0"#,
        r#"yonder_relay_condition{relay="Line",condition="down"} 1"#,
        r#"yonder_feed_up{feed="Summit main"} 0"#,
        r#"yonder_feed_state{feed="Summit main",state="off"} 0"#,
        r#"yonder_feed_bytes_total{feed="Summit main"} 0"#,
        r#"yonder_push_up{relay="Line",destination="One"} 0"#,
        r#"yonder_cause{relay="Line",destination="",code="feed.connection-refused",side="camera"} 1"#,
        r#"yonder_http_requests_total{method="GET",path="/api/v1/relays/{name}",status="200"} 1"#,
        r#"yonder_http_requests_total{method="GET",path="/api/v1/relays/{name}",status="404"} 1"#,
        "yonder_http_request_duration_seconds_count 2",
        "# TYPE yonder_records_unwritten gauge",
        "# UNIT yonder_push_backlog_seconds seconds",
        "# TYPE yonder_push_bytes counter",
    ] {
        assert!(text.contains(line), "{line} is not in {text}");
    }
    let states = text.lines().filter(|line| line.starts_with("yonder_feed_state") && line.ends_with(" 1"));
    assert_eq!(states.count(), 1, "{text}");
    assert!(!text.contains(r#"push_up{relay="Zed""#), "{text}");
    assert!(!text.contains("milliseconds") && text.ends_with("# EOF\n"), "{text}");
}

#[actix_web::test]
async fn prometheus_text_passes_its_own_checker() {
    let service = service();
    run_relays(&service).await;
    let (media_type, text) = metrics(&service, "text/plain;version=0.0.4;q=0.5,*/*;q=0.1").await;
    assert_eq!(media_type, "text/plain; version=0.0.4; charset=utf-8");
    let promtool = concat!(env!("CARGO_MANIFEST_DIR"), "/../../.tools/usr/bin/promtool");
    let mut command = std::process::Command::new(promtool);
    command.args(["check", "metrics"]).stdin(std::process::Stdio::piped());
    let mut checker =
        command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut checker.stdin.take().unwrap(), text.as_bytes()).unwrap();
    let checked = checker.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&checked.stdout) + String::from_utf8_lossy(&checked.stderr);
    assert!(checked.status.success() && said.is_empty(), "{said}\n{text}");
}
