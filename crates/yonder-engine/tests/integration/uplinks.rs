//! Pushes that are bound to uplinks. All of 127.0.0.0/8 belongs to this machine, so that loopback has several routes.

use std::time::Duration;

use crate::support;
use crate::support::{KEY, World, push_to};
use rstest::rstest;
use yonder_core::PushPhase;
use yonder_engine::{Binding, HoldSpec, PushSpec, RelaySpec, UplinkSpec};
use yonder_sim::{PlatformConfig, SrtConfig};

/// An address that no machine which runs this has.
const NOT_OURS: &str = "192.0.2.7";

fn source(name: &str, address: &str) -> UplinkSpec {
    UplinkSpec { name: name.into(), binding: Binding::Source(address.parse().unwrap()) }
}

fn interface(name: &str, interface: &str) -> UplinkSpec {
    UplinkSpec { name: name.into(), binding: Binding::Interface(interface.into()) }
}

fn world() -> World {
    World::with_platform(PlatformConfig { srt: Some(SrtConfig::default()), ..PlatformConfig::default() })
}

fn bound(world: &World, srt: bool, uplinks: Vec<UplinkSpec>) -> RelaySpec {
    let server = if srt { world.platform.srt_server().unwrap() } else { world.platform.server() };
    let push = PushSpec { uplinks, failback_delay: Duration::from_secs(2), ..push_to("to-0", &server, KEY) };
    let feed = world.feed("/viaduct/main", support::PASSWORD);
    RelaySpec { name: "relay".into(), feed, pushes: vec![push], hold: HoldSpec::default(), hls: false }
}

/// Our own ends of sockets, as the system lists them: addresses are in hexadecimal, lowest byte first.
fn own_ends(srt: bool) -> String {
    std::fs::read_to_string(if srt { "/proc/self/net/udp" } else { "/proc/self/net/tcp" }).unwrap()
}

#[rstest]
#[case::rtmp(false, "127.0.0.41", "2900007F")]
#[case::srt(true, "127.0.0.42", "2A00007F")]
#[tokio::test(start_paused = true)]
async fn push_fails_over_to_the_next_uplink(
    #[case] srt: bool,
    #[case] address: &str,
    #[case] hexadecimal: &str,
) {
    let world = world();
    let uplinks = vec![source("Office fibre", NOT_OURS), source("Office radio", address)];
    world.engine.apply(bound(&world, srt, uplinks));
    let away = |view: &yonder_engine::RelayView| {
        view.pushes[0].cause.as_ref().is_some_and(|cause| cause.code == "push.uplink-away")
    };
    let view = world.wait("away", 5, away).await;
    let cause = view.pushes[0].cause.clone().unwrap();
    assert_eq!(
        cause.message,
        "The uplink Office fibre is away: this machine does not have the address 192.0.2.7."
    );
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].uplink.as_deref(), Some("Office radio"));
    assert!(own_ends(srt).contains(&format!(" {hexadecimal}:")), "{}", own_ends(srt));
}

#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(start_paused = true)]
async fn a_push_is_bound_to_an_interface(#[case] srt: bool) {
    let world = world();
    let uplinks = vec![interface("Summit mast", "mast0"), interface("Loop line", "lo")];
    world.engine.apply(bound(&world, srt, uplinks));
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].uplink.as_deref(), Some("Loop line"));
}

#[tokio::test(start_paused = true)]
async fn address_of_another_family_has_its_own_cause() {
    let world = world();
    world.engine.apply(bound(&world, false, vec![source("Office fibre", "::1")]));
    let has_cause = |view: &yonder_engine::RelayView| {
        let says = "the platform is reached by IPv4";
        view.pushes[0].cause.as_ref().is_some_and(|cause| cause.message.contains(says))
    };
    let view = world.wait("a cause", 5, has_cause).await;
    assert_eq!(view.pushes[0].state, PushPhase::Waiting);
}
