//! SRT over paths that fail for a moment, or whose MTU is small.

use std::net::SocketAddr;
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, push_to};
use tokio::net::UdpSocket;
use tokio::sync::watch;
use tokio::task::JoinSet;
use yonder_core::PushPhase;
use yonder_engine::{HoldSpec, RelaySpec};
use yonder_sim::{PlatformConfig, SrtConfig};

/// Set in the process that runs in a network of its own.
const IN_NAMESPACE: &str = "YONDER_TEST_IN_NAMESPACE";

fn world() -> World {
    World::with_platform(PlatformConfig { srt: Some(SrtConfig::default()), ..PlatformConfig::default() })
}

fn relay(world: &World, server: &str) -> RelaySpec {
    RelaySpec {
        name: "relay".into(),
        feed: world.feed("/viaduct/main", PASSWORD),
        pushes: vec![push_to("to-0", server, KEY)],
        hold: HoldSpec::default(),
        hls: false,
    }
}

/// A router between a push and its platform, whose side towards the push can be closed: datagrams to it are then answered by
/// the system with ICMP "port unreachable".
struct Router {
    address: SocketAddr,
    open: watch::Sender<bool>,
    _task: JoinSet<()>,
}

impl Router {
    async fn start(platform: SocketAddr) -> Self {
        let address = UdpSocket::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        let (open, is_open) = watch::channel(true);
        let outer = Arc::new(UdpSocket::bind("127.0.0.1:0").await.unwrap());
        outer.connect(platform).await.unwrap();
        let mut task = JoinSet::new();
        task.spawn(route(address, outer, is_open));
        Self { address, open, _task: task }
    }
}

async fn route(address: SocketAddr, outer: Arc<UdpSocket>, mut is_open: watch::Receiver<bool>) {
    let mut push = None;
    loop {
        is_open.wait_for(|open| *open).await.unwrap();
        let inner = UdpSocket::bind(address).await.unwrap();
        let (mut from_push, mut from_platform) = ([0; 2_048], [0; 2_048]);
        while *is_open.borrow_and_update() {
            tokio::select! {
                received = inner.recv_from(&mut from_push) => {
                    let Ok((length, from)) = received else { continue };
                    push = Some(from);
                    let _sent = outer.send(&from_push[..length]).await;
                }
                received = outer.recv(&mut from_platform) => {
                    if let (Ok(length), Some(push)) = (received, push) {
                        let _sent = inner.send_to(&from_platform[..length], push).await;
                    }
                }
                _ = is_open.changed() => {}
            }
        }
    }
}

#[tokio::test(start_paused = true)]
async fn port_that_is_unreachable_for_a_moment_ends_no_push() {
    let world = world();
    let server = world.platform.srt_server().unwrap();
    let platform: SocketAddr =
        server.trim_start_matches("srt://").split('?').next().unwrap().parse().unwrap();
    let router = Router::start(platform).await;
    let through = server.replace(&platform.to_string(), &router.address.to_string());
    world.engine.apply(relay(&world, &through));
    world.wait_live().await;
    for _ in 0..3 {
        world.flow(15).await;
        router.open.send_replace(false);
        tokio::time::sleep(Duration::from_millis(300)).await;
        router.open.send_replace(true);
    }
    // A third of the packets was lost meanwhile, which shows for some seconds.
    let view = world.wait("live again", 15, |view| view.pushes[0].state == PushPhase::Live).await;
    let push = &view.pushes[0];
    assert_eq!(push.reconnects, 0, "{push:?}");
    assert!(push.link.unwrap().retransmitted > 0, "the router was closed: {push:?}");
    assert_eq!(world.platform.report("one").unwrap().broadcasts, 1);
}

#[tokio::test(start_paused = true)]
async fn closed_port_is_an_answer_before_the_handshake() {
    let world = world();
    let closed = UdpSocket::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
    world.engine.apply(relay(&world, &format!("srt://{closed}")));
    let refused = |view: &yonder_engine::RelayView| {
        view.pushes[0].cause.as_ref().is_some_and(|cause| cause.code == "push.connection-refused")
    };
    world.wait("refused", 5, refused).await;
}

/// Runs a test of this program, by its full name, in a network of its own, whose loopback has the given MTU.
fn run_in_namespace(test: &str, mtu: u32) {
    let script = format!("ip link set lo mtu {mtu} up && exec \"$0\" --exact {test} --nocapture");
    let output = Command::new("unshare")
        .args(["--net", "--map-root-user", "sh", "-c", &script])
        .arg(std::env::current_exe().unwrap())
        .env(IN_NAMESPACE, "1")
        .output()
        .unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    assert!(output.status.success(), "{}{}", text(&output.stdout), text(&output.stderr));
    assert!(text(&output.stdout).contains("1 passed"), "{}", text(&output.stdout));
}

#[test]
fn small_mtu_is_fitted_from_the_start() {
    if std::env::var_os(IN_NAMESPACE).is_none() {
        return run_in_namespace("srt_path::small_mtu_is_fitted_from_the_start", 1_300);
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    runtime.block_on(async {
        let world = world();
        world.engine.apply(relay(&world, &world.platform.srt_server().unwrap()));
        world.wait_live().await;
        world.flow(50).await;
        assert_carried(&world, 30);
    });
}

#[test]
fn mtu_that_shrinks_under_a_live_push_is_followed() {
    if std::env::var_os(IN_NAMESPACE).is_none() {
        return run_in_namespace("srt_path::mtu_that_shrinks_under_a_live_push_is_followed", 1_500);
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    runtime.block_on(async {
        let world = world();
        world.engine.apply(relay(&world, &world.platform.srt_server().unwrap()));
        world.wait_live().await;
        let shrunk = Command::new("ip").args(["link", "set", "lo", "mtu", "1100"]).status().unwrap();
        assert!(shrunk.success());
        world.flow(100).await;
        assert_carried(&world, 80);
    });
}

/// The push is live without a reconnect, and its pictures have arrived whole.
fn assert_carried(world: &World, pictures: u64) {
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.pushes[0].state, view.pushes[0].reconnects), (PushPhase::Live, 0), "{view:?}");
    let report = world.platform.report("one").unwrap();
    let received = world.platform.recording("one").pictures.len();
    assert!(u64::try_from(received).unwrap() >= pictures, "{received} pictures arrived: {report:?}");
}
