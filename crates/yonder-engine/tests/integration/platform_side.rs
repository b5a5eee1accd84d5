//! Pushes over every protocol, bit for bit, and what platforms do to them.

use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, feed_code, push_code, push_to, set_port};
use rstest::rstest;
use yonder_address::{KeyLength, Passphrase};
use yonder_core::ServerRole;
use yonder_core::{DialStep, FeedPhase, PushPhase};
use yonder_engine::{HoldSpec, PrivateAuthority, PushSpec, RelaySpec};
use yonder_sim::{Impairment, Limits, PlatformConfig, PlatformFaults, SrtConfig, Stage, TestAuthority};

const PHRASE: &str = "steam and semaphores";

fn phrase(text: &str) -> Passphrase {
    Passphrase::parse(text).unwrap()
}

fn relay(world: &World, path: &str, pushes: Vec<PushSpec>) -> RelaySpec {
    RelaySpec {
        name: "relay".into(),
        feed: world.feed(path, PASSWORD),
        pushes,
        hold: HoldSpec::default(),
        hls: false,
    }
}

/// Returns a platform that takes SRT, with that passphrase and that impairment.
fn srt_world(passphrase: Option<&str>, impairment: Impairment) -> World {
    let srt = SrtConfig {
        passphrase: passphrase.map(phrase),
        latency: srt_latency(impairment),
        ..SrtConfig::default()
    };
    let faults = PlatformFaults { impairment, ..PlatformFaults::default() };
    World::with_platform(PlatformConfig { srt: Some(srt), faults, ..PlatformConfig::default() })
}

/// Latency of the listener: enough for retransmissions on a busy machine, where packets are lost. A scheduling gap
/// longer than the latency would drop packets, as it should, and the test is about what can still be delivered.
fn srt_latency(impairment: Impairment) -> Duration {
    Duration::from_millis(if impairment.loss_permille > 0 { 1_500 } else { 120 })
}

fn srt_push(world: &World, key: &str) -> PushSpec {
    push_to("to-0", &world.platform.srt_server().unwrap(), key)
}

fn tls_world() -> (World, TestAuthority) {
    let authority = TestAuthority::new().unwrap();
    let tls = Some((0, authority.issue("localhost").unwrap()));
    let world = World::with_platform(PlatformConfig { tls, ..PlatformConfig::default() });
    world.pace();
    (world, authority)
}

async fn pictures(world: &World, channel: &str, count: u64) {
    let report = || world.platform.report(channel).map_or(0, |report| report.pictures);
    world.until(&format!("{count} pictures"), 20, || report() >= count).await;
}

async fn ended(world: &World, channel: &str) {
    world.engine.withdraw("relay");
    world.until("ended", 5, || !world.platform.report(channel).unwrap().live).await;
}

#[rstest]
#[case::one_slice("/viaduct/main")]
#[case::audio("/summit/main")]
#[case::reordered("/bandstand")]
#[tokio::test(start_paused = true)]
async fn rtmps_delivers_bit_for_bit_under_a_private_authority(#[case] path: &str) {
    let (world, authority) = tls_world();
    let mut push = push_to("to-0", &world.platform.tls_server().unwrap(), KEY);
    push.authority = Some(PrivateAuthority::from_pem(&authority.pem()).unwrap());
    world.engine.apply(relay(&world, path, vec![push]));
    let view = world.wait_live().await;
    assert!(view.pushes[0].steps.iter().any(|step| step.step == DialStep::TlsAgreed), "{view:#?}");
    pictures(&world, "one", 130).await;
    ended(&world, "one").await;
    world.assert_exact("one", path);
}

#[tokio::test(start_paused = true)]
async fn untrusted_certificate_blocks_and_is_described() {
    let (world, _) = tls_world();
    world.engine.apply(relay(
        &world,
        "/viaduct/main",
        vec![push_to("to-0", &world.platform.tls_server().unwrap(), KEY)],
    ));
    let view = world.wait("blocked", 8, |view| view.pushes[0].state == PushPhase::Blocked).await;
    assert_eq!(push_code(&view, 0), "push.tls-untrusted");
    assert!(
        view.pushes[0].cause.as_ref().unwrap().message.contains("signed by nobody known here"),
        "{view:#?}"
    );
}

#[tokio::test(start_paused = true)]
async fn certificate_for_another_name_is_not_trusted() {
    let authority = TestAuthority::new().unwrap();
    let tls = Some((0, authority.issue("thistle.example.net").unwrap()));
    let world = World::with_platform(PlatformConfig { tls, ..PlatformConfig::default() });
    world.pace();
    let mut push = push_to("to-0", &world.platform.tls_server().unwrap(), KEY);
    push.authority = Some(PrivateAuthority::from_pem(&authority.pem()).unwrap());
    world.engine.apply(relay(&world, "/viaduct/main", vec![push]));
    let view = world.wait("blocked", 8, |view| view.pushes[0].state == PushPhase::Blocked).await;
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains("another name"), "{view:#?}");
}

#[tokio::test(start_paused = true)]
async fn tls_to_a_plain_port_fails_and_is_retried() {
    let (world, _) = tls_world();
    let server = world.platform.server().replace("rtmp://", "rtmps://");
    world.engine.apply(relay(&world, "/viaduct/main", vec![push_to("to-0", &server, KEY)]));
    let view = world.wait("waiting", 12, |view| push_code(view, 0) == "push.tls-failed").await;
    assert_eq!(view.pushes[0].state, PushPhase::Waiting);
}

const UNIMPAIRED: Impairment = Impairment { loss_permille: 0, reorder_permille: 0, duplicate_permille: 0 };
const IMPAIRED: Impairment = Impairment { loss_permille: 50, reorder_permille: 50, duplicate_permille: 10 };

#[rstest]
#[case::one_slice("/viaduct/main", None, UNIMPAIRED)]
#[case::audio("/summit/main", None, UNIMPAIRED)]
#[case::reordered("/bandstand", None, UNIMPAIRED)]
#[case::slices("/shed/main", None, UNIMPAIRED)]
#[case::h265("/tunnel", None, UNIMPAIRED)]
#[case::plain_over_an_impaired_network("/summit/main", None, IMPAIRED)]
#[case::aes_128_over_an_impaired_network("/summit/main", Some(KeyLength::Aes128), IMPAIRED)]
#[case::aes_256_over_an_impaired_network("/bandstand", Some(KeyLength::Aes256), IMPAIRED)]
#[tokio::test(start_paused = true)]
async fn srt_delivers_bit_for_bit(
    #[case] path: &str,
    #[case] encryption: Option<KeyLength>,
    #[case] impairment: Impairment,
) {
    let world = srt_world(encryption.map(|_| PHRASE), impairment);
    let mut push = srt_push(&world, KEY);
    push.encryption = encryption.map(|length| (phrase(PHRASE), length));
    world.engine.apply(relay(&world, path, vec![push]));
    world.wait_live().await;
    pictures(&world, "one", 130).await;
    let view = world.engine.relay("relay").unwrap();
    let link = view.pushes[0].link.unwrap();
    assert_eq!((link.encrypted, link.latency), (encryption.is_some(), srt_latency(impairment)));
    assert_eq!(link.lost > 0, impairment.loss_permille > 0, "{link:?}");
    ended(&world, "one").await;
    if path == "/tunnel" {
        // G.711 has no place in a transport stream: the picture goes without it.
        assert!(world.platform.recording("one").audio.is_empty());
        world.assert_pictures_exact("one", path);
    } else {
        world.assert_exact("one", path);
    }
}

#[rstest]
#[case::another(Some("not the passphrase"), Some(PHRASE))]
#[case::none_here(None, Some(PHRASE))]
#[case::none_there(Some(PHRASE), None)]
#[tokio::test(start_paused = true)]
async fn wrong_passphrase_blocks(#[case] ours: Option<&str>, #[case] theirs: Option<&str>) {
    let world = srt_world(theirs, UNIMPAIRED);
    let mut push = srt_push(&world, KEY);
    push.encryption = ours.map(|text| (phrase(text), KeyLength::Aes128));
    world.engine.apply(relay(&world, "/viaduct/main", vec![push]));
    let view = world.wait("blocked", 8, |view| view.pushes[0].state == PushPhase::Blocked).await;
    assert_eq!(push_code(&view, 0), "push.passphrase-refused");
}

#[tokio::test(start_paused = true)]
async fn unknown_stream_id_blocks_and_one_in_use_waits() {
    let world = srt_world(None, UNIMPAIRED);
    world.engine.apply(relay(&world, "/viaduct/main", vec![srt_push(&world, "an-unknown-stream-id")]));
    let view = world.wait("blocked", 8, |view| view.pushes[0].state == PushPhase::Blocked).await;
    assert_eq!(push_code(&view, 0), "push.key-refused");
    world.engine.withdraw("relay");
    let twice = vec![srt_push(&world, KEY), PushSpec { destination: "to-1".into(), ..srt_push(&world, KEY) }];
    world.engine.apply(relay(&world, "/viaduct/main", twice));
    world
        .wait("busy", 8, |view| {
            let has = |state: PushPhase| view.pushes.iter().any(|push| push.state == state);
            has(PushPhase::Live)
                && has(PushPhase::Waiting)
                && (push_code(view, 0) == "push.key-busy" || push_code(view, 1) == "push.key-busy")
        })
        .await;
}

#[tokio::test(start_paused = true)]
async fn forgotten_srt_session_is_redialed() {
    let world = srt_world(None, UNIMPAIRED);
    world.engine.apply(relay(&world, "/viaduct/main", vec![srt_push(&world, KEY)]));
    world.wait_live().await;
    world.platform.change(|faults| faults.forgets += 1);
    let view = world.wait("noticed", 9, |view| push_code(view, 0) == "push.no-answer").await;
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains("for 5 s"), "{view:#?}");
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].reconnects, 1);
}

#[tokio::test(start_paused = true)]
async fn closed_srt_port_is_reported_at_once_and_dialed_when_it_opens() {
    let world = srt_world(None, UNIMPAIRED);
    world.platform.switch_off().await;
    world.engine.apply(relay(&world, "/viaduct/main", vec![srt_push(&world, KEY)]));
    world.wait("refused", 3, |view| push_code(view, 0) == "push.connection-refused").await;
    world.platform.switch_on().unwrap();
    world.wait_live().await;
}

#[tokio::test(start_paused = true)]
async fn slow_srt_link_lags_with_its_cause() {
    let world = srt_world(None, UNIMPAIRED);
    world.engine.apply(relay(&world, "/summit/main", vec![srt_push(&world, KEY)]));
    world.wait_live().await;
    world.platform.change(|faults| faults.impairment.loss_permille = 600);
    let view = world.wait("lagging", 10, |view| view.pushes[0].state == PushPhase::Lagging).await;
    assert_eq!(push_code(&view, 0), "push.too-slow");
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains("packets"), "{view:#?}");
    world.platform.change(|faults| faults.impairment.loss_permille = 0);
    world.wait("live again", 25, |view| view.pushes[0].state == PushPhase::Live).await;
}

#[rstest]
#[case::handshake(Stage::Handshake, "handshake")]
#[case::application(Stage::Connect, "application")]
#[case::key(Stage::Publish, "key")]
#[tokio::test(start_paused = true)]
async fn silent_platform_has_a_cause_by_step_and_recovers(#[case] stage: Stage, #[case] word: &str) {
    let world = World::start();
    world.platform.change(|faults| faults.silent_from = Some(stage));
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world.wait("no answer", 14, |view| push_code(view, 0) == "push.no-answer").await;
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains(word), "{view:#?}");
    world.platform.change(|faults| faults.silent_from = None);
    world.wait_live().await;
}

#[rstest]
#[case::ended("the owner ended it", "push.closed-by-platform")]
#[case::codec("HEVC is not supported on this channel", "push.codec-refused")]
#[tokio::test(start_paused = true)]
async fn end_by_the_platform_is_quoted_and_retried(#[case] words: &str, #[case] code: &str) {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.platform.change(|faults| faults.ends = (faults.ends.0 + 1, words.to_owned()));
    let view = world.wait("a cause", 5, |view| push_code(view, 0) == code).await;
    assert_eq!(view.pushes[0].state, PushPhase::Waiting);
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains(words), "{view:#?}");
    world.wait_live().await;
}

#[tokio::test(start_paused = true)]
async fn refused_application_is_quoted_and_blocks_after_three_attempts() {
    let world = World::start();
    world.platform.change(|faults| faults.refuses_app = Some("closed for the winter".to_owned()));
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    let view = world.wait("blocked", 15, |view| view.pushes[0].state == PushPhase::Blocked).await;
    assert_eq!(push_code(&view, 0), "push.app-refused");
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains("closed for the winter"));
}

#[tokio::test(start_paused = true)]
async fn a_key_that_is_busy_after_a_drop_is_waited_for() {
    let world = World::start();
    world.platform.change(|faults| faults.busy_after_drop = Duration::from_secs(4));
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.platform.change(|faults| faults.resets += 1);
    world.wait("busy", 6, |view| push_code(view, 0) == "push.key-busy").await;
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].reconnects, 1);
}

#[tokio::test(start_paused = true)]
async fn repeated_resets_are_redialed_each_time() {
    let world = World::start();
    world.platform.change(|faults| faults.flaky = Some(Duration::from_millis(900)));
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait("three returns", 30, |view| view.pushes[0].reconnects >= 3).await;
    world.platform.change(|faults| faults.flaky = None);
    world.wait("live for good", 20, |view| view.pushes[0].state == PushPhase::Live).await;
    assert_eq!(world.engine.relay("relay").unwrap().feed.reconnects, 0);
}

#[tokio::test(start_paused = true)]
async fn a_platform_that_reads_slowly_lags_with_figures_and_harms_no_other() {
    let world = World::start();
    let other = yonder_sim::Platform::start(PlatformConfig {
        app: "live".into(),
        channels: vec![("slow".to_owned(), "slow-key-1234".into())],
        faults: PlatformFaults { slow: Some(40_000), ..PlatformFaults::default() },
        ..PlatformConfig::default()
    })
    .unwrap();
    let slow = push_to("to-1", &other.server(), "slow-key-1234");
    let fast = world.push("to-0", KEY);
    world.engine.apply(relay(&world, "/summit/main", vec![fast, slow]));
    world.wait_live().await;
    let view = world.wait("lagging", 20, |view| view.pushes[1].state == PushPhase::Lagging).await;
    assert!(view.pushes[1].cause.as_ref().unwrap().message.contains("kbit/s"), "{view:#?}");
    let view = world.wait("skipping", 20, |view| view.pushes[1].frames_dropped > 0).await;
    assert_eq!((view.pushes[0].state, view.pushes[0].frames_dropped), (PushPhase::Live, 0));
    assert!(world.platform.report("one").unwrap().is_good());
}

#[rstest]
#[case::too_many_lines(Limits { lines: Some(360), ..Limits::default() }, "/summit/main", "lines are too many")]
#[case::too_many_bits(Limits { kbps: Some(200), ..Limits::default() }, "/summit/main", "kbit/s are too many")]
#[case::no_audio(Limits { needs_audio: true, ..Limits::default() }, "/viaduct/main", "there is no sound")]
#[case::codec(Limits { h264_only: true, ..Limits::default() }, "/tunnel", "H.265 is not supported")]
#[tokio::test(start_paused = true)]
async fn refused_media_has_a_cause_with_the_platforms_message(
    #[case] limits: Limits,
    #[case] path: &str,
    #[case] words: &str,
) {
    let faults = PlatformFaults { limits, ..PlatformFaults::default() };
    let world = World::with_platform(PlatformConfig { faults, ..PlatformConfig::default() });
    world.engine.apply(world.relay(path, PASSWORD, &[KEY]));
    let has_cause = |view: &yonder_engine::RelayView| {
        view.pushes[0].cause.as_ref().is_some_and(|cause| cause.message.contains(words))
    };
    world.wait("a cause", 12, has_cause).await;
}

#[tokio::test(start_paused = true)]
async fn failover_to_the_backup_server_and_failback() {
    let world = World::start();
    let backup = yonder_sim::Platform::start(PlatformConfig {
        app: "live".into(),
        channels: vec![("spare".to_owned(), KEY.into())],
        ..PlatformConfig::default()
    })
    .unwrap();
    let mut push = world.push("to-0", KEY);
    push.backup = Some(push_to("", &backup.server(), KEY).server);
    push.failback_delay = Duration::from_secs(2);
    world.engine.apply(relay(&world, "/viaduct/main", vec![push]));
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].server, ServerRole::Main);
    world.platform.switch_off().await;
    let on_backup = |view: &yonder_engine::RelayView| {
        view.pushes[0].state == PushPhase::Live && view.pushes[0].server == ServerRole::Backup
    };
    world.wait("on the backup server", 12, on_backup).await;
    world.platform.switch_on().unwrap();
    let view = world
        .wait("back on the main server", 12, |view| {
            view.pushes[0].state == PushPhase::Live && view.pushes[0].server == ServerRole::Main
        })
        .await;
    assert_eq!(view.pushes[0].reconnects, 2);
    // It left the backup server in order.
    world.until("ended there", 3, || !backup.report("spare").unwrap().live).await;
}

#[tokio::test(start_paused = true)]
async fn new_key_affects_one_push_of_four() {
    let keys = ["key-of-channel-a", "key-of-channel-b", "key-of-channel-c", "key-of-channel-d"];
    let names = ["a", "b", "c", "d"];
    let world = World::start();
    let channels: Vec<_> =
        names.iter().zip(keys).map(|(name, key)| ((*name).to_owned(), key.into())).collect();
    let platform = yonder_sim::Platform::start(PlatformConfig {
        app: "live".into(),
        channels,
        record: true,
        ..PlatformConfig::default()
    })
    .unwrap();
    let pushes = |keys: [&str; 4]| -> Vec<PushSpec> {
        names.iter().zip(keys).map(|(name, key)| push_to(name, &platform.server(), key)).collect()
    };
    world.engine.apply(relay(&world, "/summit/main", pushes(keys)));
    world.wait_live().await;
    world.flow(25).await;
    platform.set_key("b", "another-key-of-b".into());
    let rolled = tokio::time::Instant::now();
    world.engine.apply(relay(
        &world,
        "/summit/main",
        pushes([keys[0], "another-key-of-b", keys[2], keys[3]]),
    ));
    world.wait("live under the new key", 5, |view| view.pushes[1].state == PushPhase::Live).await;
    assert!(rolled.elapsed() < Duration::from_secs(2), "it took {:?}", rolled.elapsed());
    world.flow(25).await;
    world.engine.withdraw("relay");
    for name in ["a", "c", "d"] {
        world.until("ended", 5, || !platform.report(name).unwrap().live).await;
        let report = platform.report(name).unwrap();
        assert!(report.is_good() && report.broadcasts == 1, "{report:?}");
        world.assert_recording_exact(&platform.recording(name), "/summit/main");
    }
    assert_eq!(platform.report("b").unwrap().broadcasts, 2);
}

#[tokio::test(start_paused = true)]
async fn broadcast_continues_within_the_grace_period() {
    let world = World::start();
    world.platform.change(|faults| faults.grace = Some(Duration::from_secs(5)));
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.platform.change(|faults| faults.resets += 1);
    world.wait("back", 8, |view| view.pushes[0].reconnects == 1).await;
    assert_eq!(world.platform.report("one").unwrap().broadcasts, 1);
}

#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(start_paused = true)]
async fn silent_broadcast_is_ended_and_its_key_used_up(#[case] by_srt: bool) {
    let world = srt_world(None, UNIMPAIRED);
    world.platform.change(|faults| {
        faults.grace = Some(Duration::from_secs(2));
        faults.one_broadcast_keys = true;
    });
    let push = if by_srt { srt_push(&world, KEY) } else { world.push("to-0", KEY) };
    world.engine.apply(relay(&world, "/viaduct/main", vec![push]));
    world.wait_live().await;
    world.camera.change(|faults| faults.frozen = true);
    world.until("ended", 8, || !world.platform.report("one").unwrap().live).await;
    world.camera.change(|faults| faults.frozen = false);
    let view = world.wait("refused", 25, |view| push_code(view, 0) == "push.key-refused").await;
    // The key has worked, so it is tried on, rationed.
    assert_eq!(view.pushes[0].state, PushPhase::Waiting);
    if !by_srt {
        assert!(view.pushes[0].cause.as_ref().unwrap().message.contains("for one broadcast"), "{view:#?}");
    }
}

#[tokio::test(start_paused = true)]
async fn a_name_with_two_addresses_is_reached_at_the_one_that_answers() {
    let world = srt_world(None, UNIMPAIRED);
    world.pace();
    // On many machines this name stands for ::1 first, where the platform does not listen.
    let server = world.platform.srt_server().unwrap().replace("127.0.0.1", "localhost");
    world.engine.apply(relay(&world, "/viaduct/main", vec![push_to("to-0", &server, KEY)]));
    world.wait_live().await;
}

#[tokio::test(start_paused = true)]
async fn unknown_server_name_has_its_own_cause() {
    let world = World::start();
    world.pace();
    let push = push_to("to-0", "rtmp://nobody.invalid/live", KEY);
    let srt = PushSpec { destination: "to-1".into(), ..push_to("", "srt://nobody.invalid:9000", KEY) };
    world.engine.apply(relay(&world, "/viaduct/main", vec![push, srt]));
    world
        .wait("a cause", 8, |view| {
            push_code(view, 0) == "push.name-not-found" && push_code(view, 1) == "push.name-not-found"
        })
        .await;
}

#[tokio::test(start_paused = true)]
async fn closed_platform_port_has_its_own_cause() {
    let world = World::start();
    let mut spec = world.relay("/viaduct/main", PASSWORD, &[KEY]);
    let closed = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
    set_port(&mut spec.pushes[0], closed.port());
    world.engine.apply(spec);
    world.wait("refused", 5, |view| push_code(view, 0) == "push.connection-refused").await;
}

#[tokio::test(start_paused = true)]
async fn missing_keyframes_of_a_flowing_feed_are_shown() {
    let world = World::start();
    world.engine.apply(world.relay("/viaduct/main", PASSWORD, &[]));
    world.wait("flowing", 8, |view| view.feed.state == FeedPhase::Flowing).await;
    world.camera.change(|faults| faults.no_keyframes = true);
    // The feed flows on, and shows what is wrong with it.
    let view = world.wait("warned", 25, |view| feed_code(view) == "feed.no-keyframe").await;
    assert_eq!(view.feed.state, FeedPhase::Flowing);
    world.camera.change(|faults| faults.no_keyframes = false);
    world.wait("well again", 8, |view| feed_code(view).is_empty()).await;
}

/// Returns a second platform with the key of the first one.
fn other_platform(application: &str) -> yonder_sim::Platform {
    yonder_sim::Platform::start(PlatformConfig {
        app: application.into(),
        channels: vec![("one".to_owned(), KEY.into())],
        record: true,
        ..PlatformConfig::default()
    })
    .unwrap()
}

#[tokio::test(start_paused = true)]
async fn redirect_is_followed_and_the_address_stays() {
    let world = World::start();
    let other = other_platform("moved");
    world.platform.change(|faults| faults.redirects_to = Some(other.server()));
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].attempts, 0, "{view:#?}");
    world.until("media at the other platform", 5, || !other.recording("one").pictures.is_empty()).await;
    assert!(world.platform.report("one").is_none());
    // The next connection begins at the address of the destination.
    world.platform.change(|faults| faults.redirects_to = None);
    other.change(|faults| faults.resets += 1);
    world.until("media at the first platform", 10, || world.platform.report("one").is_some()).await;
}

#[tokio::test(start_paused = true)]
async fn redirect_to_a_server_that_is_away_is_followed_again_until_it_is_back() {
    let world = World::start();
    let other = other_platform("away");
    world.platform.change(|faults| faults.redirects_to = Some(other.server()));
    other.switch_off().await;
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    let view = world.wait("eight attempts", 60, |view| view.pushes[0].attempts >= 8).await;
    assert_eq!(push_code(&view, 0), "push.connection-refused", "{view:#?}");
    other.switch_on().unwrap();
    world.until("media at the other platform", 40, || !other.recording("one").pictures.is_empty()).await;
}

#[tokio::test(start_paused = true)]
async fn redirects_in_a_circle_end_with_a_cause() {
    let world = World::start();
    let own = world.platform.server();
    world.platform.change(|faults| faults.redirects_to = Some(own));
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    let view = world.wait("given up", 5, |view| push_code(view, 0) == "push.protocol").await;
    assert!(view.pushes[0].cause.as_ref().unwrap().message.contains("redirected too often"), "{view:#?}");
    assert_eq!(view.pushes[0].state, PushPhase::Waiting);
}

#[tokio::test(start_paused = true)]
async fn reconnect_request_moves_the_push_without_a_failure() {
    let world = World::start();
    let other = other_platform("drained");
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    let target = other.server();
    world.platform.change(|faults| faults.reconnects = (1, Some(target)));
    world.until("media at the other platform", 5, || !other.recording("one").pictures.is_empty()).await;
    let view = world.wait_live().await;
    assert_eq!(view.pushes[0].cause, None, "{view:#?}");
    let report = world.platform.report("one").unwrap();
    assert!(!report.live && report.is_good(), "the first broadcast ended in order: {report:?}");
}

#[tokio::test(start_paused = true)]
async fn required_sign_in_has_its_own_cause() {
    let world = World::start();
    let words = "[ AccessManager.Reject ] : [ code=403 need auth; authmod=adobe ]";
    world.platform.change(|faults| faults.refuses_app = Some(words.to_owned()));
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    let view = world.wait("refused", 5, |view| push_code(view, 0) == "push.app-refused").await;
    let cause = view.pushes[0].cause.as_ref().unwrap();
    assert!(cause.message.contains("asks for a user name and password"), "{cause:?}");
    assert!(cause.hint.contains("Signing in to an RTMP server is not supported"), "{cause:?}");
}

#[rstest]
#[case::announced(&["hvc1"], false)]
#[case::not_announced(&[], true)]
#[tokio::test(start_paused = true)]
async fn h265_that_the_server_has_not_announced_is_pushed_with_a_warning(
    #[case] announces: &[&str],
    #[case] warns: bool,
) {
    let faults = PlatformFaults {
        announces: announces.iter().map(|name| (*name).to_owned()).collect(),
        ..PlatformFaults::default()
    };
    let world = World::with_platform(PlatformConfig { faults, ..PlatformConfig::default() });
    world.engine.apply(world.relay("/tunnel", PASSWORD, &[KEY]));
    world.wait_live().await;
    let view = world.wait("carried", 5, |view| view.pushes[0].frames_sent > 20).await;
    assert_eq!(view.pushes[0].warning.is_some(), warns, "{view:#?}");
}

#[tokio::test(start_paused = true)]
async fn metadata_is_sent_again_once_rates_are_known() {
    let world = World::start();
    world.engine.apply(world.relay("/summit/main", PASSWORD, &[KEY]));
    world.wait_live().await;
    world.until("metadata twice", 15, || world.platform.recording("one").metadata.len() >= 2).await;
    let metadata = world.platform.recording("one").metadata;
    let number = |at: usize, name: &str| metadata[at].get(name).and_then(yonder_rtmp::Value::as_number);
    assert_eq!(number(0, "videodatarate"), None, "nothing is measured when the feed begins");
    for (name, range) in
        [("framerate", 24.0..26.0), ("videodatarate", 50.0..20_000.0), ("audiodatarate", 8.0..400.0)]
    {
        let value = number(1, name);
        assert!(value.is_some_and(|value| range.contains(&value)), "{name}: {value:?}");
    }
}
