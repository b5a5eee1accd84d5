//! Faults between the engine and the world: silence, garbage, resets, and a platform that stops reading.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, feed_code, push_code, rtsp, set_port};
use socket2::SockRef;
use tokio::io::{AsyncWriteExt as _, copy_bidirectional};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::sync::watch;
use tokio::time::timeout;
use yonder_core::{FeedPhase, PushPhase};
use yonder_engine::RelaySpec;

/// A port in front of another one, through which bytes pass or not.
struct Gate {
    address: SocketAddr,
    open: watch::Sender<bool>,
    task: tokio::task::JoinHandle<()>,
}

impl Gate {
    fn before(target: SocketAddr) -> Self {
        let socket = TcpSocket::new_v4().unwrap();
        // A peer that does not read fills its small buffer soon.
        socket.set_recv_buffer_size(16 * 1024).unwrap();
        socket.bind("127.0.0.1:0".parse().unwrap()).unwrap();
        let listener = socket.listen(16).unwrap();
        let address = listener.local_addr().unwrap();
        let open = watch::Sender::new(true);
        let gate = Arc::new(open.clone());
        let task = tokio::spawn(async move {
            let mut connections = tokio::task::JoinSet::new();
            while let Ok((stream, _)) = listener.accept().await {
                connections.spawn(pass(stream, target, gate.subscribe()));
            }
        });
        Self { address, open, task }
    }

    /// Connections stay, but nothing passes any more; new ones pass once the gate is open again.
    fn shut(&self) {
        self.open.send_replace(false);
    }

    fn open(&self) {
        self.open.send_replace(true);
    }
}

impl Drop for Gate {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn pass(mut stream: TcpStream, target: SocketAddr, mut open: watch::Receiver<bool>) {
    if open.wait_for(|open| *open).await.is_err() {
        return;
    }
    let Ok(mut other) = TcpStream::connect(target).await else { return };
    let shut = async { open.wait_for(|open| !*open).await.is_ok() };
    let was_shut = tokio::select! {
        _ = copy_bidirectional(&mut stream, &mut other) => false,
        shut = shut => shut,
    };
    if was_shut {
        // Both sockets stay open and unread for as long as the test runs.
        std::future::pending::<()>().await;
    }
}

/// A port in front of another one whose first connection is reset after a while (RFC 9293, 3.10.7.4).
async fn resetting(target: SocketAddr, after: Duration) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        let mut first = true;
        while let Ok((mut stream, _)) = listener.accept().await {
            let reset = std::mem::take(&mut first);
            tokio::spawn(async move {
                let Ok(mut other) = TcpStream::connect(target).await else { return };
                let copying = copy_bidirectional(&mut stream, &mut other);
                if !reset {
                    // Whichever side ends it, both are done.
                    let _ended = copying.await;
                    return;
                }
                let _still_running = timeout(after, copying).await;
                SockRef::from(&stream).set_linger(Some(Duration::ZERO)).unwrap();
            });
        }
    });
    address
}

/// Returns a port that answers every connection with the same bytes and then nothing.
fn mute(answer: &'static [u8]) -> SocketAddr {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let listener = TcpListener::from_std(listener).unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        let mut open = Vec::new();
        while let Ok((mut stream, _)) = listener.accept().await {
            stream.write_all(answer).await.unwrap();
            open.push(stream);
        }
    });
    address
}

fn with_camera_at(mut spec: RelaySpec, address: SocketAddr) -> RelaySpec {
    rtsp(&mut spec.feed).url.port = address.port();
    spec
}

#[tokio::test(start_paused = true)]
async fn frozen_camera_is_redialed_and_the_push_survives() {
    let world = World::start();
    let gate = Gate::before(world.camera.address());
    world.engine.apply(with_camera_at(world.relay("/viaduct/main", PASSWORD, &[KEY]), gate.address));
    world.wait_live().await;
    gate.shut();
    let view = world
        .wait("stalled", 4, |view| {
            view.feed.state == FeedPhase::Stalled && view.pushes[0].state == PushPhase::Waiting
        })
        .await;
    assert_eq!((feed_code(&view), push_code(&view, 0)), ("feed.stalled", "feed.stalled"));
    world.wait("given up", 6, |view| view.feed.state != FeedPhase::Stalled).await;
    gate.open();
    let view = world.wait_live().await;
    assert_eq!((view.feed.reconnects, view.pushes[0].reconnects), (1, 0));
    let report = world.platform.report("one").unwrap();
    assert_eq!(report.broadcasts, 1);
    // The hole is there to be seen, but time never steps back.
    assert!(report.findings.iter().all(|finding| !finding.sentence().contains("stepped back")), "{report:?}");
}

#[tokio::test(start_paused = true)]
async fn reset_connection_is_redialed() {
    let world = World::start();
    let address = resetting(world.camera.address(), Duration::from_millis(1_500)).await;
    world.engine.apply(with_camera_at(world.relay("/viaduct/main", PASSWORD, &[KEY]), address));
    world.wait_live().await;
    let view = world.wait("noticed", 4, |view| feed_code(view) == "feed.closed-by-camera").await;
    assert!(view.feed.cause.unwrap().message.contains("reset"));
    let view = world.wait("back", 5, |view| view.feed.reconnects == 1).await;
    assert_eq!(view.pushes[0].reconnects, 0);
}

#[tokio::test(start_paused = true)]
async fn silent_camera_times_out() {
    let world = World::start();
    world.engine.apply(with_camera_at(world.relay("/viaduct/main", PASSWORD, &[KEY]), mute(b"")));
    let view = world.wait("no answer", 12, |view| feed_code(view) == "feed.no-answer").await;
    // The camera is there: the next dial follows after the usual pause.
    assert_eq!(view.feed.state, FeedPhase::Waiting);
    tokio::time::sleep(Duration::from_millis(600)).await;
    assert_eq!(world.engine.relay("relay").unwrap().feed.state, FeedPhase::Waiting);
}

#[tokio::test(start_paused = true)]
async fn invalid_camera_data_is_a_protocol_failure_and_is_retried() {
    let world = World::start();
    let garbage = mute(b"\x01\x02\x03 not rtsp at all\r\n\r\n");
    world.engine.apply(with_camera_at(world.relay("/viaduct/main", PASSWORD, &[KEY]), garbage));
    let view = world.wait("a cause", 5, |view| view.feed.state == FeedPhase::Waiting).await;
    assert_eq!(feed_code(&view), "feed.protocol");
}

#[tokio::test(start_paused = true)]
async fn silent_platform_times_out_while_the_feed_flows() {
    let world = World::start();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    set_port(&mut spec.pushes[0], mute(b"").port());
    world.engine.apply(spec);
    let view = world.wait("no answer", 14, |view| push_code(view, 0) == "push.no-answer").await;
    assert_eq!(view.feed.state, FeedPhase::Flowing);
}

#[tokio::test(start_paused = true)]
async fn server_of_another_protocol_has_its_own_cause() {
    let world = World::start();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    set_port(&mut spec.pushes[0], mute(b"HTTP/1.1 400 Bad Request\r\n\r\n").port());
    world.engine.apply(spec);
    world.wait("a cause", 5, |view| push_code(view, 0) == "push.protocol").await;
}

#[tokio::test(start_paused = true)]
async fn platform_that_stops_reading_is_dropped_without_affecting_others() {
    let world = World::start();
    let gate = Gate::before(world.platform.address());
    let mut spec = world.relay("/summit/main", PASSWORD, &[KEY, "second-key-0815"]);
    set_port(&mut spec.pushes[1], gate.address.port());
    world.engine.apply(spec);
    world.wait_live().await;
    gate.shut();
    let view = world.wait("lagging", 15, |view| view.pushes[1].state == PushPhase::Lagging).await;
    assert_eq!(push_code(&view, 1), "push.too-slow");
    assert!(view.pushes[1].backlog.as_millis() > 1_000);
    world
        .wait("given up", 20, |view| {
            matches!(push_code(view, 1), "push.no-answer" | "push.closed-by-platform")
        })
        .await;
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.pushes[0].state, view.pushes[0].frames_dropped), (PushPhase::Live, 0));
    let report = world.platform.report("one").unwrap();
    assert!(report.is_good(), "{report:?}");
    assert_eq!(report.broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn repeatedly_cut_connections_recover() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    for round in 0..4_u64 {
        world.wait_live().await;
        if round % 2 == 0 {
            world.camera.switch_off().await;
            world.camera.switch_on().unwrap();
        } else {
            world.platform.switch_off().await;
            world.platform.switch_on().unwrap();
        }
        world.wait("back", 10, |view| view.feed.reconnects + view.pushes[0].reconnects > round).await;
    }
    let view = world.wait_live().await;
    assert_eq!((view.feed.reconnects, view.pushes[0].reconnects), (2, 2));
}

#[tokio::test(start_paused = true)]
async fn a_closed_port_is_a_refused_connection() {
    let world = World::start();
    let port = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
    world.engine.apply(with_camera_at(world.relay("/viaduct/main", PASSWORD, &[KEY]), port));
    world.wait("refused", 5, |view| feed_code(view) == "feed.connection-refused").await;
}
