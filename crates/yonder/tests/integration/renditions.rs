//! Renditions through the command line, the API, the metrics and the site book.

use serde_json::Value;

use crate::support::{CAMERA_PASSWORD, KEY, PASSPHRASE, SECOND_KEY, Service, World, text};

/// Adds a feed of the camera's path, a destination by RTMP and one by SRT, and a relay to both.
fn set_up(service: &Service, world: &World, path: &str) {
    let url = world.camera.url(path).replace("://", &format!("://rail:{CAMERA_PASSWORD}@"));
    service.must(&["feed", "add", "Box", "--url-stdin"], &url);
    let rtmp = [
        "destination",
        "add",
        "Bramble",
        "--server",
        &world.platform.server(),
        "--platform",
        "Plain RTMP",
        "--key-stdin",
    ];
    service.must(&rtmp, KEY);
    let passphrase = service.file("passphrase", PASSPHRASE);
    let server = world.platform.srt_server().unwrap();
    let srt = [
        "destination",
        "add",
        "Marrow",
        "--server",
        &server,
        "--platform",
        "SRT receiver",
        "--key-stdin",
        "--passphrase-file",
        &passphrase,
    ];
    service.must(&srt, SECOND_KEY);
    service.must(&["relay", "add", "Box", "--feed", "Box", "--to", "Bramble", "Marrow"], "");
}

fn preflight(service: &Service) -> Value {
    let output = service.run(&["relay", "preflight", "Box", "--json"]);
    serde_json::from_str(&text(&output.stdout)).unwrap()
}

fn checks<'a>(preflight: &'a Value, name: &str) -> Vec<&'a Value> {
    preflight["checks"].as_array().unwrap().iter().filter(|check| check["check"] == name).collect()
}

#[test]
fn g711_is_adapted_for_both_platforms_by_one_encoder() {
    let (service, world) = (Service::start(), World::start());
    set_up(&service, &world, "/box");
    let passed = preflight(&service);
    assert_ne!(passed["level"], "fail", "{passed:#}");
    let made = checks(&passed, "rendition");
    assert_eq!(made.len(), 2, "{passed:#}");
    let reason = made[0]["reason"].as_str().unwrap();
    assert!(
        reason.contains("AAC, 48000 Hz, 1 channel, 64 kbit/s") && reason.contains("% of one core"),
        "{reason}"
    );
    service.must(&["relay", "start", "Box"], "");
    service.wait_live("Box");
    service.flow("Box", 50);
    let relay = service.relay("Box");
    for push in relay["pushes"].as_array().unwrap() {
        let rendition = &push["rendition"];
        let audio = &rendition["audio"];
        assert_eq!(
            (&audio["codec"], &audio["source"], &rendition["video"]),
            (&"AAC".into(), &"feed".into(), &Value::Null)
        );
        assert_eq!(rendition["shared_by"], 2, "{push:#}");
        assert!(rendition["cpu_cores"].as_f64().unwrap() < 0.5, "{push:#}");
    }
    for channel in ["one", "two"] {
        let report = world.platform.report(channel).unwrap();
        assert_eq!(
            report.audio.as_ref().map(|audio| (audio.codec, audio.rate_hz)),
            Some(("AAC", 48_000)),
            "{channel}"
        );
        assert!(report.is_good(), "{channel}: {report:?}");
    }
    assert!(
        service.must(&["relay", "show", "Box"], "").contains("Bramble: adapted: AAC, 48 000 Hz, 64 kbit/s; ")
    );
    let token = service.token();
    let metrics = ureq::get(format!("{}/metrics", service.url()))
        .header("Authorization", format!("Bearer {token}"))
        .header("Accept", "text/plain")
        .call()
        .unwrap()
        .body_mut()
        .read_to_string()
        .unwrap();
    let series: Vec<&str> =
        metrics.lines().filter(|line| line.starts_with("yonder_rendition_pushes{")).collect();
    assert!(series.len() == 1 && series[0].ends_with(" 2"), "{series:?}");
}

#[test]
fn feed_without_permission_to_adapt_fails_with_the_command_that_helps() {
    let (service, world) = (Service::start(), World::start());
    set_up(&service, &world, "/box");
    service.must(&["relay", "edit", "Box", "--adapt", "none"], "");
    let failed = preflight(&service);
    let codec = checks(&failed, "audio-codec")[0];
    assert_eq!(
        (&failed["level"], &codec["level"], &codec["adapt"]),
        (&"fail".into(), &"fail".into(), &"audio".into())
    );
    assert!(codec["next_step"].as_str().unwrap().contains("--adapt audio"), "{codec:#}");
    service.must(&["relay", "edit", "Box", "--adapt", "audio"], "");
    assert_ne!(preflight(&service)["level"], "fail");
}

#[test]
fn video_is_adapted_to_a_limit_and_the_choice_survives_a_restart() {
    let (mut service, world) = (Service::start(), World::start());
    set_up(&service, &world, "/crossing");
    service.must(&["relay", "edit", "Box", "--adapt", "all", "--limit", "Bramble=360p,800kbit/s"], "");
    let passed = preflight(&service);
    assert_ne!(passed["level"], "fail", "{passed:#}");
    service.must(&["relay", "start", "Box"], "");
    service.wait_live("Box");
    let rendition = |service: &Service, at: usize| service.relay("Box")["pushes"][at]["rendition"].clone();
    let video = &rendition(&service, 0)["video"];
    assert_eq!((&video["width"], &video["height"], &video["kbps"]), (&640.into(), &360.into(), &150.into()));
    assert_eq!(rendition(&service, 1), Value::Null, "Marrow accepts the feed as it is");
    service.flow("Box", 30);
    assert_eq!(world.platform.report("one").unwrap().size(), Some((640, 360)));
    // A power cut, and the camera is away: the holding picture has the size of the rendition.
    world.camera_off();
    service.kill();
    service.start_again();
    let held =
        |relay: &Value| relay["pushes"].as_array().unwrap().iter().all(|push| push["state"] == "holding");
    service.wait("Box", "holding", held);
    assert_eq!(rendition(&service, 0)["video"]["height"], 360);
    assert_eq!(world.platform.report("one").unwrap().size(), Some((640, 360)));
    assert_eq!(world.platform.report("two").unwrap().size(), Some((1_920, 1_080)));
    world.camera_on();
    service.wait_live("Box");
}

#[test]
fn limits_are_checked_and_part_of_the_site_book() {
    let (service, world) = (Service::start(), World::start());
    set_up(&service, &world, "/box");
    for (limit, complaint) in [
        ("Bramble", "give a destination and its limit"),
        ("Bramble=fast", "is not a limit"),
        ("Bramble=20p", "is out of range"),
        ("Nowhere=720p", "is not a destination of this relay"),
    ] {
        let refused = service.run(&["relay", "edit", "Box", "--limit", limit]);
        let output = text(&refused.stderr);
        assert!(refused.status.code() != Some(0) && output.contains(complaint), "{limit}: {output}");
    }
    service.must(
        &["relay", "edit", "Box", "--adapt", "all", "--limit", "Bramble=720p", "--limit", "Marrow=25fps"],
        "",
    );
    let book = service.must(&["book", "export"], "");
    assert!(book.contains("adapt = \"all\"") && book.contains("Bramble = \"720p\""), "{book}");
    let file = service.file("book.toml", &book.replace("\"720p\"", "\"540p\""));
    service.must(&["book", "apply", &file], "");
    let relay = service.relay("Box");
    assert_eq!((&relay["limits"]["Bramble"], &relay["limits"]["Marrow"]), (&"540p".into(), &"25fps".into()));
    service.must(&["relay", "edit", "Box", "--limit", "none"], "");
    assert_eq!(service.relay("Box")["limits"], serde_json::json!({}));
    service.must(&["relay", "edit", "Box", "--limit", "Bramble=720p"], "");
    service.must(&["relay", "edit", "Box", "--to", "Marrow"], "");
    assert_eq!(service.relay("Box")["limits"], serde_json::json!({}), "limits end with their destination");
}
