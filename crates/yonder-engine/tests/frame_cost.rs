//! Allocations on the path of a frame, counted on the thread that runs the feed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod support;

use std::time::Duration;

use allocation_counter::measure;
use rstest::rstest;
use support::{KEY, PASSWORD, World, push_to};
use tokio::runtime::Builder;
use yonder_core::PushPhase;
use yonder_engine::{Engine, HoldSpec, RelaySpec};
use yonder_sim::{PlatformConfig, SrtConfig};

/// Time over which allocations are counted. It includes the snapshots and statistics of each second.
const COUNTED: Duration = Duration::from_secs(4);

#[rstest]
#[case::rtmp(false, 14)]
#[case::srt(true, 26)]
fn frame_costs_few_allocations(#[case] over_srt: bool, #[case] max_per_frame: u64) {
    let world_runtime = Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let feed_runtime = Builder::new_current_thread().enable_all().build().unwrap();
    let world = {
        let _entered = world_runtime.enter();
        let srt = over_srt.then(SrtConfig::default);
        World::with_platform(PlatformConfig { srt, ..PlatformConfig::default() })
    };
    let engine = Engine::new(feed_runtime.handle().clone());
    let server = if over_srt { world.platform.srt_server().unwrap() } else { world.platform.server() };
    let spec = RelaySpec {
        name: "relay".into(),
        feed: world.feed("/summit/main", PASSWORD),
        pushes: vec![push_to("to-0", &server, KEY)],
        hold: HoldSpec::default(),
        hls: false,
    };
    let sent = || engine.relay("relay").unwrap().pushes[0].frames_sent;
    feed_runtime.block_on(async {
        engine.apply(spec);
        let live = || engine.relay("relay").unwrap().pushes[0].state == PushPhase::Live;
        world.until("live", 15, live).await;
        // Buffers reach their sizes.
        tokio::time::sleep(Duration::from_secs(3)).await;
    });
    let before = sent();
    let counted = measure(|| feed_runtime.block_on(async { tokio::time::sleep(COUNTED).await }));
    let frames = sent() - before;
    let per_frame = counted.count_total / frames.max(1);
    assert!(frames > 60, "{frames} frames in {COUNTED:?}");
    assert!(
        per_frame <= max_per_frame,
        "{} allocations for {frames} frames, {per_frame} each",
        counted.count_total
    );
    assert!(counted.count_current < 100, "{} allocations were kept", counted.count_current);
    feed_runtime.block_on(engine.shutdown());
}
