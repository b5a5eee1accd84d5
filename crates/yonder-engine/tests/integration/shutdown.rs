//! The end of the service: every broadcast ends in order, soon.

use std::time::Duration;

use crate::support;
use crate::support::{PASSWORD, World};
use tokio::runtime::Handle;
use yonder_core::PushPhase;
use yonder_engine::{Engine, MediaThreads, RelaySpec};
use yonder_sim::PlatformConfig;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn shutdown_ends_many_broadcasts_in_order_within_two_seconds() {
    const RELAYS: usize = 60;
    let channels =
        (0..RELAYS).map(|at| (format!("channel-{at}"), format!("channel-key-{at:04}").into())).collect();
    let mut world = World::start();
    let platform = yonder_sim::Platform::start(PlatformConfig {
        app: "live".into(),
        channels,
        ..PlatformConfig::default()
    })
    .unwrap();
    let threads = MediaThreads::start(2).unwrap();
    world.engine = Engine::with_media_threads(Handle::current(), &threads);
    for at in 0..RELAYS {
        let push = support::push_to("to", &platform.server(), &format!("channel-key-{at:04}"));
        let mut feed = world.feed("/shed/main", PASSWORD);
        feed.name = format!("feed-{at}");
        let hold = yonder_engine::HoldSpec { after: Some(Duration::from_millis(100)), ..Default::default() };
        world.engine.apply(RelaySpec {
            name: format!("relay-{at}"),
            feed,
            pushes: vec![push],
            hold,
            hls: false,
        });
    }
    let is_live = |at| world.engine.relay(&format!("relay-{at}")).unwrap().pushes[0].state == PushPhase::Live;
    world.until("all live", 60, || (0..RELAYS).all(is_live)).await;
    let begun = std::time::Instant::now();
    world.engine.shutdown().await;
    let took = begun.elapsed();
    assert!(took < Duration::from_secs(2), "{took:?}");
    for at in 0..RELAYS {
        let report = platform.report(&format!("channel-{at}")).unwrap();
        assert!(!report.live, "the platform was notified: {report:?}");
    }
}
