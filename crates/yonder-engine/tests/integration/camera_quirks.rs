//! Cameras that bend the standard in harmless ways: each flows, and what arrives is what they sent.

use crate::support::{KEY, PASSWORD, World, feed_code, rtsp};
use rstest::rstest;
use yonder_core::{FeedPhase, PushPhase};
use yonder_engine::{RtpTransport, TransportChoice};
use yonder_sim::{CameraFaults, Certificate, Description, Marker, SignIn, Transports};

fn described(change: impl FnOnce(&mut Description)) -> CameraFaults {
    let mut faults = CameraFaults::default();
    change(&mut faults.description);
    faults
}

fn signs_in(sign_in: SignIn) -> CameraFaults {
    CameraFaults { sign_in, ..CameraFaults::default() }
}

#[rstest]
#[case::basic(signs_in(SignIn::Basic))]
#[case::digest_with_qop(signs_in(SignIn::DigestQop))]
#[case::digest_with_sha256(signs_in(SignIn::DigestSha256))]
#[case::all_challenges_at_once(signs_in(SignIn::Everything))]
#[case::nonces_that_grow_stale(CameraFaults { stale_after: Some(2), ..CameraFaults::default() })]
#[case::bare_line_ends(described(|d| d.bare_line_ends = true))]
#[case::parameter_sets_in_band_only(described(|d| d.no_parameter_sets = true))]
#[case::trailing_commas(described(|d| d.trailing_comma = true))]
#[case::absolute_controls_with_queries(described(|d| d.absolute_controls = true))]
#[case::tracks_nobody_asked_for(described(|d| d.extra_tracks = true))]
#[case::no_base_address(described(|d| d.no_base = true))]
#[case::static_payload_types(described(|d| d.static_types = true))]
#[case::no_markers(CameraFaults { marker: Marker::Missing, ..CameraFaults::default() })]
#[case::markers_on_every_slice(CameraFaults { marker: Marker::EverySlice, ..CameraFaults::default() })]
#[case::requests_of_its_own(CameraFaults { asks_back: true, ..CameraFaults::default() })]
#[case::no_get_parameter(CameraFaults { no_get_parameter: true, timeout_s: Some(10), ..CameraFaults::default() })]
#[case::short_sessions(CameraFaults { timeout_s: Some(1), ..CameraFaults::default() })]
#[tokio::test(start_paused = true)]
async fn harmless_oddities_are_accepted(
    #[case] faults: CameraFaults,
    #[values("/shed/main", "/tunnel")] path: &str,
) {
    let world = World::with(faults, None);
    world.engine.apply(world.relay(path, PASSWORD, &[KEY]));
    world.wait("sending for a while", 15, |view| view.pushes[0].frames_sent > 60).await;
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((view.feed.reconnects, view.feed.packets_lost, view.feed.units_dropped), (0, 0, 0));
    world.engine.shutdown().await;
    world.assert_exact("one", path);
    assert_eq!(world.camera.refused(), 0, "never a wrong answer to a challenge");
}

#[tokio::test(start_paused = true)]
async fn latm_audio_is_relayed() {
    let world = World::with(CameraFaults { latm: true, ..CameraFaults::default() }, None);
    world.engine.apply(world.relay("/bandstand", PASSWORD, &[KEY]));
    world.wait("sending for a while", 15, |view| view.pushes[0].frames_sent > 80).await;
    world.engine.shutdown().await;
    world.assert_exact("one", "/bandstand");
}

#[rstest]
#[case::interleaved_refused(Transports::UdpOnly, RtpTransport::Udp)]
#[case::datagrams_refused(Transports::TcpOnly, RtpTransport::Tcp)]
#[tokio::test(start_paused = true)]
async fn auto_finds_the_transport_that_the_camera_serves(
    #[case] serves: Transports,
    #[case] carrier: RtpTransport,
) {
    let world = World::with(CameraFaults { transports: serves, ..CameraFaults::default() }, None);
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world.wait_live().await;
    assert_eq!((view.feed.transport, view.feed.reconnects), (Some(carrier), 0));
    // The next dial begins with what worked.
    world.camera.switch_off().await;
    let before = world.camera.sessions();
    world.camera.switch_on().unwrap();
    world.wait("back", 10, |view| view.feed.reconnects == 1).await;
    assert_eq!(world.camera.sessions(), before + 1);
}

#[rstest]
#[case(TransportChoice::Tcp, Transports::UdpOnly)]
#[case(TransportChoice::Udp, Transports::TcpOnly)]
#[tokio::test(start_paused = true)]
async fn refused_fixed_transport_blocks(#[case] wants: TransportChoice, #[case] serves: Transports) {
    let world = World::with(CameraFaults { transports: serves, ..CameraFaults::default() }, None);
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = wants;
    world.engine.apply(spec);
    let view = world.wait("blocked", 5, |view| view.feed.state == FeedPhase::Blocked).await;
    assert_eq!(feed_code(&view), "feed.transport-refused");
    // Editing the feed unblocks at once.
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait("live", 3, |view| view.pushes[0].state == PushPhase::Live).await;
}

#[tokio::test(start_paused = true)]
async fn redirects_are_followed_and_the_password_is_not_carried_to_another_host() {
    let (front, back) = (World::start(), World::start());
    // The same host by the same name: the password goes along.
    front.camera.change(|faults| faults.redirects_to = Some(back.camera.url("/viaduct/main")));
    front.engine.apply(front.relay("/summit/main", PASSWORD, &[KEY]));
    front.wait_live().await;
    assert_eq!((front.camera.sessions(), back.camera.sessions()), (0, 1));
    front.engine.withdraw("relay");
    front.pace();
    // Another name for it: the password stays here, and the camera asks in vain.
    let elsewhere = back.camera.url("/viaduct/main").replace("127.0.0.1", "localhost");
    front.camera.change(|faults| faults.redirects_to = Some(elsewhere));
    front.engine.apply(front.relay("/summit/main", PASSWORD, &[KEY]));
    let view = front.wait("refused", 5, |view| feed_code(view) == "feed.wrong-password").await;
    assert!(view.feed.cause.unwrap().message.contains("asks for a user name"));
    assert_eq!(back.camera.refused(), 0);
    front.engine.withdraw("relay");
    // In a circle.
    let itself = front.camera.url("/summit/main");
    front.camera.change(|faults| faults.redirects_to = Some(itself));
    front.engine.apply(front.relay("/summit/main", PASSWORD, &[KEY]));
    front.wait("given up", 5, |view| feed_code(view) == "feed.protocol").await;
}

#[tokio::test(start_paused = true)]
async fn redirect_that_leaves_tls_does_not_carry_the_password() {
    let certificate = Certificate::self_signed("summit.example.net").unwrap();
    let front = World::with(CameraFaults::default(), Some(certificate.clone()));
    let back = World::start();
    front.camera.change(|faults| faults.redirects_to = Some(back.camera.url("/summit/main")));
    let mut spec = front.relay("/summit/main", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).pin = Some(certificate.digest());
    front.engine.apply(spec);
    let view = front.wait("refused", 5, |view| feed_code(view) == "feed.wrong-password").await;
    assert!(view.feed.cause.unwrap().message.contains("asks for a user name"));
    assert_eq!((back.camera.refused(), back.camera.sessions()), (0, 0));
}

#[tokio::test(start_paused = true)]
async fn self_signed_certificate_is_refused_until_pinned() {
    let certificate = Certificate::self_signed("summit.example.net").unwrap();
    let other = Certificate::self_signed("summit.example.net").unwrap();
    let world = World::with(CameraFaults::default(), Some(certificate.clone()));
    let mut spec = world.relay("/bandstand", PASSWORD, &[KEY]);
    world.engine.apply(spec.clone());
    let view = world.wait("blocked", 5, |view| view.feed.state == FeedPhase::Blocked).await;
    assert_eq!(feed_code(&view), "feed.tls-untrusted");
    assert!(view.feed.cause.unwrap().message.contains(&certificate.fingerprint()));
    rtsp(&mut spec.feed).pin = Some(other.digest());
    world.engine.apply(spec.clone());
    let view = world.wait("blocked again", 5, |view| {
        view.feed.cause.as_ref().is_some_and(|cause| cause.message.contains("another one"))
    });
    assert_eq!(view.await.feed.state, FeedPhase::Blocked);
    rtsp(&mut spec.feed).pin = Some(certificate.digest());
    world.engine.apply(spec);
    world.wait("sending for a while", 10, |view| view.pushes[0].frames_sent > 60).await;
    world.engine.shutdown().await;
    world.assert_exact("one", "/bandstand");
}

#[tokio::test(start_paused = true)]
async fn tls_to_a_plain_port_has_its_own_cause() {
    let world = World::start();
    let mut spec = world.relay("/bandstand", PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).url.tls = true;
    world.engine.apply(spec);
    let view = world.wait("failed", 8, |view| feed_code(view) == "feed.tls-failed").await;
    assert_eq!(view.feed.state, FeedPhase::Waiting);
}
