//! Live previews: what a viewer gets, and what the camera notices of it.

use std::sync::Arc;
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio::time::Instant;
use tokio::time::timeout;
use yonder_core::FeedPhase;
use yonder_engine::PreviewMessage;

/// Returns a viewer of `path`, with room for so many messages.
fn watch(world: &Arc<World>, path: &str, room: usize) -> (mpsc::Receiver<PreviewMessage>, JoinHandle<()>) {
    let (sender, receiver) = mpsc::channel(room);
    let (engine, spec) = (world.engine.clone(), world.feed(path, PASSWORD));
    let task = tokio::spawn(async move { engine.preview(spec, sender).await });
    (receiver, task)
}

async fn next(viewer: &mut mpsc::Receiver<PreviewMessage>) -> PreviewMessage {
    timeout(Duration::from_secs(8), viewer.recv()).await.expect("a message comes in time").unwrap()
}

/// Names of the outermost boxes of a segment.
fn boxes(message: &PreviewMessage) -> Vec<String> {
    let PreviewMessage::Segment(segment) = message else { panic!("no segment: {message:?}") };
    let mut rest = &segment[..];
    let mut names = Vec::new();
    while let Some((length, _)) = rest.split_first_chunk::<4>() {
        let length = usize::try_from(u32::from_be_bytes(*length)).unwrap();
        names.push(String::from_utf8(rest[4..8].to_vec()).unwrap());
        rest = &rest[length..];
    }
    names
}

#[tokio::test(start_paused = true)]
async fn a_running_feed_is_shown_from_its_last_keyframe_without_another_session() {
    let world = Arc::new(World::start());
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    let (mut viewer, task) = watch(&world, "/summit/main", 400);
    let PreviewMessage::Type(kind) = next(&mut viewer).await else { panic!("the type comes first") };
    assert_eq!(kind, "video/mp4; codecs=\"avc1.64001f, mp4a.40.2\"");
    assert_eq!(boxes(&next(&mut viewer).await), ["ftyp", "moov"]);
    for _ in 0..60 {
        assert_eq!(boxes(&next(&mut viewer).await), ["moof", "mdat"]);
    }
    assert_eq!(world.camera.sessions(), 1);
    drop(viewer);
    timeout(Duration::from_secs(2), task).await.expect("it ends with its viewer").unwrap();
    assert_eq!(world.engine.relay("relay").unwrap().feed.state, FeedPhase::Flowing);
}

#[tokio::test(start_paused = true)]
async fn stopped_feed_is_pulled_while_it_has_viewers() {
    let world = Arc::new(World::start());
    let (mut viewer, _task) = watch(&world, "/tunnel", 400);
    let PreviewMessage::Type(kind) = next(&mut viewer).await else { panic!("the type comes first") };
    // G.711 is left out: browsers do not play it.
    assert!(kind.starts_with("video/mp4; codecs=\"hvc1.1.") && !kind.contains("mp4a"), "{kind}");
    assert_eq!(boxes(&next(&mut viewer).await), ["ftyp", "moov"]);
    assert_eq!(world.camera.viewers(), 1);
    drop(viewer);
    world.until("the camera left alone", 3, || world.camera.viewers() == 0).await;
}

#[tokio::test(start_paused = true)]
async fn slow_viewer_continues_at_a_keyframe() {
    let world = Arc::new(World::start());
    let (mut viewer, _task) = watch(&world, "/viaduct/main", 8);
    // The queue of this viewer overflows, and a keyframe passes, while a second viewer reads 75 messages.
    let (mut other, _other_task) = watch(&world, "/viaduct/main", 400);
    for _ in 0..75 {
        next(&mut other).await;
    }
    let mut kinds = 0;
    for _ in 0..40 {
        if matches!(next(&mut viewer).await, PreviewMessage::Type(_)) {
            kinds += 1;
        }
    }
    assert_eq!(kinds, 2, "once at the beginning, and once at the continuation");
}

#[tokio::test(start_paused = true)]
async fn changed_frame_size_gets_a_new_initialization_segment() {
    let world = Arc::new(World::start());
    let (mut viewer, _task) = watch(&world, "/summit/main", 400);
    assert!(matches!(next(&mut viewer).await, PreviewMessage::Type(_)));
    let bandstand = Arc::new(world.media("/bandstand"));
    world.camera.change(|faults| faults.shows = Some(bandstand));
    let changed = async {
        loop {
            if let PreviewMessage::Type(kind) = next(&mut viewer).await {
                return kind;
            }
        }
    };
    let kind = timeout(Duration::from_secs(8), changed).await.unwrap();
    assert_eq!(kind, "video/mp4; codecs=\"avc1.640032, mp4a.40.2\"");
}

#[tokio::test(start_paused = true)]
async fn end_of_a_preview_has_its_cause() {
    let world = Arc::new(World::start());
    let (mut viewer, _task) = watch(&world, "/viaduct/main", 400);
    assert!(matches!(next(&mut viewer).await, PreviewMessage::Type(_)));
    world.camera.switch_off().await;
    let cause = loop {
        if let PreviewMessage::Ended(cause) = next(&mut viewer).await {
            break cause.unwrap();
        }
    };
    assert_eq!(cause.code, "feed.closed-by-camera");
    let (mut viewer, _task) = watch(&world, "/viaduct/main", 400);
    let PreviewMessage::Ended(Some(cause)) = next(&mut viewer).await else { panic!("it cannot begin") };
    assert_eq!(cause.code, "feed.connection-refused");
}

#[tokio::test(start_paused = true)]
async fn all_viewers_of_a_stream_share_one_session() {
    let world = Arc::new(World::start());
    world.camera.change(|faults| faults.max_viewers = Some(1));
    let mut viewers: Vec<_> = (0..5).map(|_| watch(&world, "/viaduct/main", 400)).collect();
    for (viewer, _) in &mut viewers {
        assert!(matches!(next(viewer).await, PreviewMessage::Type(_)));
    }
    let still = world.engine.still(world.feed("/viaduct/main", PASSWORD)).await;
    assert!(still.unwrap().is_ok());
    assert_eq!((world.camera.sessions(), world.camera.viewers()), (1, 1));
    // The session stays until the last viewer has gone.
    for (viewer, task) in viewers {
        assert_eq!(world.camera.viewers(), 1);
        drop(viewer);
        timeout(Duration::from_secs(2), task).await.expect("it ends with its viewer").unwrap();
    }
    world.until("the camera left alone", 3, || world.camera.viewers() == 0).await;
}

#[tokio::test(start_paused = true)]
async fn viewers_keep_no_session_from_a_relay_and_continue_with_it() {
    let world = Arc::new(World::start());
    world.camera.change(|faults| faults.max_viewers = Some(1));
    let (mut viewer, _task) = watch(&world, "/summit/main", 400);
    assert!(matches!(next(&mut viewer).await, PreviewMessage::Type(_)));
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    // Messages that were queued before come first.
    let mut segments = 0;
    while segments < 150 {
        match next(&mut viewer).await {
            PreviewMessage::Segment(_) => segments += 1,
            PreviewMessage::Type(_) => {}
            PreviewMessage::Ended(cause) => panic!("the viewer was cut off: {cause:?}"),
        }
    }
    assert_eq!(world.camera.viewers(), 1);
}

#[tokio::test(start_paused = true)]
async fn viewers_of_an_absent_feed_dial_nothing_and_get_its_cause() {
    let world = Arc::new(World::start());
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.camera.change(|faults| faults.max_viewers = Some(1));
    world.camera.switch_off().await;
    let absent = || world.engine.relay("relay").is_some_and(|relay| relay.feed.cause.is_some());
    world.until("the feed absent", 10, absent).await;
    let (begun, sessions) = (Instant::now(), world.camera.sessions());
    let viewers: Vec<_> = (0..10).map(|_| watch(&world, "/summit/main", 400)).collect();
    let cause = world.engine.still(world.feed("/summit/main", PASSWORD)).await.unwrap_err();
    assert_eq!(cause.code, world.engine.relay("relay").unwrap().feed.cause.unwrap().code);
    for (mut viewer, _task) in viewers {
        let PreviewMessage::Ended(Some(_)) = next(&mut viewer).await else { panic!("there is no picture") };
    }
    // A viewer that dials by itself is refused at once.
    assert!(begun.elapsed() > Duration::from_secs(5), "{:?}", begun.elapsed());
    // One that waits while the camera comes back sees its picture, from the one session.
    let (mut viewer, _task) = watch(&world, "/summit/main", 400);
    world.camera.switch_on().unwrap();
    assert!(matches!(next(&mut viewer).await, PreviewMessage::Type(_)));
    assert_eq!((world.camera.viewers(), world.camera.sessions()), (1, sessions + 1));
}
