//! A feed as one actor: it moves between media threads while it runs, and a panic in one of its parts is that part's alone.

use crate::support;
use crate::support::{KEY, PASSWORD, World, feed_code, push_code, rtsp};
use rstest::rstest;
use tokio::runtime::Handle;
use yonder_core::PushPhase;
use yonder_engine::{Engine, MediaThreads, PanicPlace, RelaySpec, TransportChoice};
use yonder_sim::{PlatformConfig, SrtConfig};

const OTHER_KEY: &str = "second-key-0815";

/// A world whose engine has two media threads, which end with the second value.
fn with_media_threads(mut world: World) -> (World, MediaThreads) {
    let threads = MediaThreads::start(2).unwrap();
    world.engine = Engine::with_media_threads(Handle::current(), &threads);
    (world, threads)
}

#[rstest]
#[case::interleaved(TransportChoice::Tcp)]
#[case::datagrams(TransportChoice::Udp)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn feed_moves_between_media_threads_without_losing_a_frame(#[case] transport: TransportChoice) {
    let world =
        World::with_platform(PlatformConfig { srt: Some(SrtConfig::default()), ..PlatformConfig::default() });
    let (world, _threads) = with_media_threads(world);
    let mut spec = world.relay("/summit/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = transport;
    spec.pushes.push(support::push_to("by-srt", &world.platform.srt_server().unwrap(), OTHER_KEY));
    world.engine.apply(spec);
    world.wait_live().await;
    let first = world.engine.thread_of("feed").unwrap();
    for turn in 1..=6 {
        let thread = (first + turn) % 2;
        world.engine.move_feed("feed", thread);
        assert_eq!(world.engine.thread_of("feed"), Some(thread));
        let before = world.engine.relay("relay").unwrap().pushes[0].frames_sent;
        world.wait("sending there", 8, |view| view.pushes[0].frames_sent > before + 10).await;
    }
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.feed.reconnects, view.feed.packets_lost), (0, 0));
    assert!(view.pushes.iter().all(|push| (push.reconnects, push.frames_dropped) == (0, 0)), "{view:?}");
    world.engine.shutdown().await;
    world.assert_exact("one", "/summit/main");
    assert_eq!(world.platform.report("one").unwrap().broadcasts, 1);
    world.assert_exact("two", "/summit/main");
    assert_eq!(world.platform.report("two").unwrap().broadcasts, 1);
}

/// Two pushes of one relay.
async fn live_on_two() -> World {
    let world = World::start();
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY, OTHER_KEY]));
    world.wait_live().await;
    world
}

#[tokio::test(start_paused = true)]
async fn panic_in_a_push_ends_that_push_alone_and_it_returns() {
    let world = live_on_two().await;
    world.engine.panic_in("relay", PanicPlace::Push);
    let view = world.wait("a cause", 5, |view| push_code(view, 0) == "push.internal").await;
    assert_eq!(view.pushes[1].state, PushPhase::Live);
    let view = world.wait("live again", 10, |view| view.pushes[0].state == PushPhase::Live).await;
    assert_eq!((view.pushes[0].reconnects, view.pushes[1].reconnects, view.feed.reconnects), (1, 0, 0));
    world.engine.shutdown().await;
    world.assert_exact("two", "/summit/main");
    assert_eq!(world.platform.report("two").unwrap().broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn panic_in_an_output_ends_the_pushes_of_its_relay_alone() {
    let world = World::start();
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    let other = RelaySpec { name: "other".into(), ..world.relay("/summit/main", PASSWORD, &[OTHER_KEY]) };
    world.engine.apply(other);
    world.wait_live().await;
    let other = || world.engine.relay("other").unwrap().pushes.remove(0);
    world.until("the other is live", 10, || other().state == PushPhase::Live).await;
    world.engine.panic_in("relay", PanicPlace::Output);
    world.wait("a cause", 5, |view| push_code(view, 0) == "push.internal").await;
    let view = world.wait("live again", 10, |view| view.pushes[0].state == PushPhase::Live).await;
    assert_eq!((view.pushes[0].reconnects, view.feed.reconnects, other().reconnects), (1, 0, 0));
    world.engine.shutdown().await;
    world.assert_exact("two", "/summit/main");
    assert_eq!(world.platform.report("two").unwrap().broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn panic_in_a_source_fails_the_feed_and_broadcasts_continue() {
    let world = live_on_two().await;
    world.engine.panic_in("relay", PanicPlace::Source);
    world.wait("a cause", 5, |view| feed_code(view) == "feed.internal").await;
    let view = world.wait("flowing again", 10, |view| view.feed.reconnects == 1).await;
    assert!(view.pushes.iter().all(|push| push.reconnects == 0), "{view:?}");
    world.wait_live().await;
    for channel in ["one", "two"] {
        assert_eq!(world.platform.report(channel).unwrap().broadcasts, 1);
    }
}

#[tokio::test(start_paused = true)]
async fn panic_in_the_actor_is_logged_and_all_connections_restart() {
    let world = live_on_two().await;
    world.engine.panic_in("relay", PanicPlace::Actor);
    world
        .wait("a cause", 5, |view| {
            feed_code(view) == "feed.internal" && push_code(view, 0) == "push.internal"
        })
        .await;
    let view = world.wait("flowing again", 10, |view| view.feed.reconnects == 1).await;
    assert_eq!(feed_code(&view), "");
    world.wait_live().await;
}
