//! A camera that gets another address behind the same name, as home connections do.
//!
//! Needs a table of names of its own, which takes the right to make a mount namespace; where that is missing the test
//! says so and passes.

use std::net::Ipv4Addr;
use std::sync::Arc;

use crate::support::{CAMERA_PASSWORD, KEY, Service, World};
use yonder_sim::{Camera, CameraConfig, CameraStream, railway_feeds};

const NAME: &str = "summit.example.net";

#[test]
fn camera_with_a_new_address_is_found_by_its_name() {
    let folder = tempfile::tempdir().unwrap();
    let hosts = folder.path().join("hosts");
    let point_to = |address: Ipv4Addr| {
        std::fs::write(&hosts, format!("127.0.0.1 localhost\n{address} {NAME}\n")).unwrap();
    };
    point_to(Ipv4Addr::LOCALHOST);
    let service = Service::start_with_hosts(&hosts);
    let world = World::start();
    let port = world.camera.address().port();
    let feed =
        ["feed", "add", "Summit", "--url", &format!("rtsp://{NAME}:{port}/viaduct/main"), "--user", "rail"];
    service.must(&[&feed[..], &["--password-stdin"]].concat(), CAMERA_PASSWORD);
    let server = world.platform.server();
    service.must(&["destination", "add", "Bramble", "--server", &server, "--key-stdin"], KEY);
    service.must(&["relay", "add", "Line", "--feed", "Summit", "--to", "Bramble"], "");
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");

    // The site's provider gives it another address; its name follows a moment later.
    world.camera_off();
    let moved = world.inside(|| {
        let feed = railway_feeds().into_iter().find(|feed| feed.name == "Viaduct").unwrap();
        Camera::start(CameraConfig {
            streams: vec![CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) }],
            account: Some(("rail".to_owned(), CAMERA_PASSWORD.into())),
            host: Some(Ipv4Addr::new(127, 0, 0, 2)),
            port,
            ..CameraConfig::default()
        })
        .unwrap()
    });
    service.wait("Line", "refused at the old address", |relay| {
        relay["feed"]["cause"]["code"] == "feed.connection-refused"
    });
    point_to(Ipv4Addr::new(127, 0, 0, 2));
    let relay = service.wait("Line", "back", |relay| relay["feed"]["reconnects"] == 1);
    assert_eq!(relay["pushes"][0]["reconnects"], 0, "the broadcast outlives the move: {relay:#}");
    assert_eq!(moved.sessions(), 1);
}
