//! A camera whose deviations from the standards change at random for an hour, over both transports and both codecs.
//!
//! `YONDER_ODDITIES_SECONDS` sets another duration, in paused time.

use std::time::Duration;

use crate::support::{KEY, PASSWORD, World, rtsp};
use rand::rngs::SmallRng;
use rand::{RngExt as _, SeedableRng as _};
use rstest::rstest;
use tokio::time::Instant;
use yonder_engine::TransportChoice;
use yonder_sim::{CameraFaults, Oddities};

fn duration() -> Duration {
    let seconds = std::env::var("YONDER_ODDITIES_SECONDS").ok().and_then(|text| text.parse().ok());
    Duration::from_secs(seconds.unwrap_or(3_600))
}

/// Returns a random set of deviations. The payload type of a camera stays as it is.
fn random_oddities(random: &mut SmallRng, other_payload_type: bool) -> Oddities {
    let mut is_on = || random.random_bool(0.4);
    Oddities {
        vendor_units: is_on(),
        no_end_marks: is_on(),
        start_codes: is_on(),
        stray_bytes: is_on(),
        empty_padding: is_on(),
        refused_keep_alives: is_on(),
        odd_heads: is_on(),
        silent_options: is_on(),
        no_range: is_on(),
        other_payload_type,
        unreadable: false,
    }
}

#[rstest]
#[case::h264_tcp("/summit/main", TransportChoice::Tcp, false)]
#[case::h264_udp("/summit/main", TransportChoice::Udp, true)]
#[case::h265_tcp("/tunnel", TransportChoice::Tcp, true)]
#[tokio::test(start_paused = true)]
async fn oddities_at_random_cost_no_session_and_every_drop_has_a_reason(
    #[case] path: &str,
    #[case] transport: TransportChoice,
    #[case] other_payload_type: bool,
) {
    let seed: u64 = rand::random();
    let mut random = SmallRng::seed_from_u64(seed);
    let oddities = random_oddities(&mut random, other_payload_type);
    let faults = CameraFaults { timeout_s: Some(4), oddities, ..CameraFaults::default() };
    let world = World::without_recording(faults);
    let mut spec = world.relay(path, PASSWORD, &[KEY]);
    rtsp(&mut spec.feed).transport = transport;
    world.engine.apply(spec);
    world.wait_live().await;
    let began_with_odd_heads = oddities.odd_heads;
    let mut has_stray_bytes = oddities.stray_bytes && transport == TransportChoice::Tcp;
    let end = Instant::now() + duration();
    while Instant::now() < end {
        let oddities = random_oddities(&mut random, other_payload_type);
        world.camera.change(|faults| faults.oddities = oddities);
        has_stray_bytes |= oddities.stray_bytes && transport == TransportChoice::Tcp;
        world.flow(20).await;
        let view = world.engine.relay("relay").unwrap();
        assert_eq!(view.feed.reconnects, 0, "seed {seed}, {oddities:?}: {view:#?}");
    }
    world.camera.change(|faults| faults.oddities = Oddities { other_payload_type, ..Oddities::default() });
    // Figures are at most a second old.
    world.flow(40).await;
    let view = world.engine.relay("relay").unwrap();
    assert_eq!((world.camera.sessions(), view.feed.reconnects), (1, 0), "seed {seed}: {view:#?}");
    let drops = view.feed.reception.iter().find(|track| track.track == yonder_media::Track::Video).unwrap();
    let counted = drops.drops.by_reason();
    for (reason, count) in counted {
        let is_expected = match reason {
            "reserved-type" | "unterminated-fragment" => count > 0,
            "other-payload-type" => (count > 0) == other_payload_type,
            _ => count == 0,
        };
        assert!(is_expected, "seed {seed}: {counted:?}");
    }
    // Keep-alives end once they have been refused: the responses of the beginning are certain alone.
    assert!(view.feed.skipped.header_lines > 0 || !began_with_odd_heads, "seed {seed}: {view:#?}");
    assert_eq!(view.feed.skipped.bytes > 0, has_stray_bytes, "seed {seed}: {view:#?}");
    // Nothing was lost, and what was dropped without loss has its reason.
    assert_eq!(view.feed.packets_lost, 0, "seed {seed}: {view:#?}");
    assert_eq!(drops.units_dropped, 0, "seed {seed}: {counted:?}");
    assert!(view.pushes[0].frames_sent > 25 * (duration().as_secs() - 2), "seed {seed}: {view:#?}");
}
