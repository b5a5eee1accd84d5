use rstest::rstest;
use yonder_media::AudioConfig;
use yonder_media::g711::Law;

use super::*;
use crate::audio::test_signal::{Decoded, amplitude, compand, level, sine};

const TARGET: AudioTarget = AudioTarget { sample_rate: 48_000, channels: 1, kbps: 64 };
/// Ticks of a packet of 20 ms.
const PACKET: i64 = 1_800;
/// Time of the first packet.
const BEGIN: i64 = 900_000;

fn g711(law: Law) -> AudioConfig {
    AudioConfig::G711 { law, sample_rate: 8_000, channels: 1 }
}

fn transcoder(target: AudioTarget, source: Option<&AudioConfig>) -> AudioTranscoder {
    let mut transcoder = AudioTranscoder::new(target).unwrap();
    transcoder.set_source(source).unwrap();
    transcoder
}

/// Returns a packet of 160 samples, beginning with sample `n` of a tone of 440 Hz.
fn tone(law: Law, n: i64) -> Vec<u8> {
    (n..n + 160).map(|n| compand(law, sine(n, 8_000, 440.0, 0.5))).collect()
}

fn silence() -> Vec<u8> {
    vec![Law::A.silence(); 160]
}

/// Returns a packet with a click at its first sample.
fn click() -> Vec<u8> {
    let mut packet = silence();
    packet[0] = 0xaa;
    packet
}

fn frames(transcoder: &mut AudioTranscoder) -> Vec<EncodedFrame> {
    std::iter::from_fn(|| transcoder.next_frame()).collect()
}

#[rstest]
#[case::a_law(Law::A, TARGET)]
#[case::mu_law(Law::Mu, TARGET)]
#[case::stereo(Law::A, AudioTarget { channels: 2, kbps: 128, ..TARGET })]
#[case::other_rate(Law::A, AudioTarget { sample_rate: 44_100, ..TARGET })]
fn tone_keeps_its_frequency_and_level(#[case] law: Law, #[case] target: AudioTarget) {
    let mut transcoder = transcoder(target, Some(&g711(law)));
    for packet in 0..150 {
        transcoder.push(BEGIN + packet * PACKET, &tone(law, packet * 160)).unwrap();
    }
    let decoded = Decoded::of(&transcoder.config().clone(), &frames(&mut transcoder));
    let steady = decoded.between(BEGIN + 45_000, BEGIN + 225_000);
    let found = amplitude(steady, target.sample_rate, 440.0);
    assert!((found - 0.5).abs() < 0.02, "amplitude {found}");
    // The rest is noise: quantization to 8 bits, and that of the encoder.
    let rest = (level(steady).powi(2) - found.powi(2) / 2.0).max(0.0).sqrt();
    assert!(rest < 0.02, "noise {rest}");
}

/// The delay of encoder and decoder is part of the timestamps.
#[rstest]
fn click_is_in_step(#[values(44_100, 48_000)] sample_rate: u32) {
    let target = AudioTarget { sample_rate, ..TARGET };
    let mut transcoder = transcoder(target, Some(&g711(Law::A)));
    for packet in 0..100 {
        let data = if packet == 50 { click() } else { silence() };
        transcoder.push(BEGIN + packet * PACKET, &data).unwrap();
    }
    let decoded = Decoded::of(&transcoder.config().clone(), &frames(&mut transcoder));
    let apart = decoded.peak() - (BEGIN + 50 * PACKET);
    assert!(apart.abs() < 90, "{apart} ticks apart");
}

/// An hour with a camera clock that is 200 ppm fast or slow: its packets get closer together or farther apart. A low rate
/// makes it quick.
#[rstest]
#[case::fast(-200)]
#[case::slow(200)]
fn audio_stays_in_step_over_an_hour_of_drift(#[case] ppm: i64) {
    let target = AudioTarget { sample_rate: 16_000, channels: 1, kbps: 32 };
    let mut transcoder = transcoder(target, Some(&g711(Law::A)));
    let at = |packet: i64| BEGIN + packet * PACKET + packet * PACKET * ppm / 1_000_000;
    let (last, silent) = (180_000, silence());
    let mut recent = Vec::new();
    for packet in 0..last {
        let data = if packet == last - 50 { click() } else { silent.clone() };
        transcoder.push(at(packet), &data).unwrap();
        recent.extend(frames(&mut transcoder));
        if packet < last - 100 {
            recent.clear();
        }
    }
    let decoded = Decoded::of(&transcoder.config().clone(), &recent);
    let apart = decoded.peak() - at(last - 50);
    assert!(apart.abs() < 5 * 90, "{} ms apart", apart as f64 / 90.0);
}

#[test]
fn gap_is_filled_with_silence() {
    let mut transcoder = transcoder(TARGET, Some(&g711(Law::A)));
    for packet in (0..100).filter(|packet| !(40..60).contains(packet)) {
        transcoder.push(BEGIN + packet * PACKET, &tone(Law::A, packet * 160)).unwrap();
    }
    let decoded = Decoded::of(&transcoder.config().clone(), &frames(&mut transcoder));
    let at = |packet: i64| BEGIN + packet * PACKET;
    assert!(level(decoded.between(at(43), at(57))) < 0.001);
    assert!(level(decoded.between(at(20), at(38))) > 0.3);
    assert!(level(decoded.between(at(63), at(90))) > 0.3);
}

#[test]
fn repeated_packets_are_dropped() {
    let mut transcoder = transcoder(TARGET, Some(&g711(Law::A)));
    for packet in (0..50).chain(45..100) {
        transcoder.push(BEGIN + packet * PACKET, &tone(Law::A, packet * 160)).unwrap();
    }
    let frames = frames(&mut transcoder);
    let end = frames.last().unwrap().pts;
    assert!(end < BEGIN + 100 * PACKET, "{end}");
    Decoded::of(&transcoder.config().clone(), &frames);
}

#[test]
fn feed_without_audio_is_silent_and_continuous() {
    let mut transcoder = transcoder(TARGET, None);
    for frame in 0..250 {
        transcoder.fill_until(BEGIN + frame * 3_600).unwrap();
    }
    let frames = frames(&mut transcoder);
    assert!(frames.len() > 460, "{} frames", frames.len());
    let decoded = Decoded::of(&transcoder.config().clone(), &frames);
    assert!(decoded.samples.iter().all(|sample| sample.abs() < 0.001));
}

/// The camera starts to send audio, stops, and comes back with another codec.
#[test]
fn silence_becomes_audio_and_audio_silence() {
    let mut transcoder = transcoder(TARGET, None);
    let mut pts = BEGIN;
    let mut video = |transcoder: &mut AudioTranscoder, law: Option<Law>| {
        transcoder.set_source(law.map(g711).as_ref()).unwrap();
        let begin = pts;
        for packet in 0..100 {
            if let Some(law) = law {
                transcoder.push(pts, &tone(law, packet * 160)).unwrap();
            }
            pts += PACKET;
            transcoder.fill_until(pts).unwrap();
        }
        (begin + 9_000, pts - 9_000)
    };
    let parts = [None, Some(Law::A), None, Some(Law::Mu)].map(|law| video(&mut transcoder, law));
    let decoded = Decoded::of(&transcoder.config().clone(), &frames(&mut transcoder));
    let levels = parts.map(|(begin, end)| level(decoded.between(begin, end)));
    assert!(levels[0] < 0.001 && levels[1] > 0.3 && levels[2] < 0.001 && levels[3] > 0.3, "{levels:?}");
}

#[test]
fn clock_starts_again_after_a_long_gap() {
    let mut transcoder = transcoder(TARGET, Some(&g711(Law::A)));
    let later = BEGIN + 20 * TICKS_PER_SECOND;
    for packet in 0..50 {
        transcoder.push(BEGIN + packet * PACKET, &silence()).unwrap();
    }
    let before = frames(&mut transcoder);
    for packet in 0..50 {
        transcoder.push(later + packet * PACKET, &if packet == 25 { click() } else { silence() }).unwrap();
    }
    let after = frames(&mut transcoder);
    assert!(before.last().unwrap().pts < BEGIN + 50 * PACKET);
    let apart = Decoded::of(&transcoder.config().clone(), &after).peak() - (later + 25 * PACKET);
    assert!(apart.abs() < 90, "{apart} ticks apart");
}

#[test]
fn times_never_step_back() {
    let mut transcoder = transcoder(TARGET, Some(&g711(Law::A)));
    let mut ends = Vec::new();
    for begin in [BEGIN, BEGIN + 3 * TICKS_PER_SECOND, BEGIN - 9 * TICKS_PER_SECOND, BEGIN] {
        for packet in 0..40 {
            transcoder.push(begin + packet * PACKET, &silence()).unwrap();
        }
        ends.extend(frames(&mut transcoder).into_iter().map(|frame| frame.pts));
    }
    assert!(ends.is_sorted() && ends.windows(2).all(|pair| pair[0] < pair[1]), "{ends:?}");
}

#[rstest]
#[case::channels(AudioTarget { channels: 6, ..TARGET })]
#[case::rate(AudioTarget { sample_rate: 47_999, ..TARGET })]
#[case::bit_rate(AudioTarget { kbps: 1, ..TARGET })]
fn unsupported_target_is_refused(#[case] target: AudioTarget) {
    assert!(matches!(AudioTranscoder::new(target).unwrap_err(), CodecError::UnsupportedTarget { .. }));
}

#[test]
fn damaged_audio_does_not_end_the_transcoder() {
    let source = AudioConfig::aac(AudioSpecificConfig::lc(44_100, 2).unwrap()).unwrap();
    let mut transcoder = transcoder(TARGET, Some(&source));
    for frame in 0..100 {
        transcoder.push(BEGIN + frame * 2_090, &[0xff; 40]).unwrap();
        transcoder.fill_until(BEGIN + frame * 2_090).unwrap();
    }
    assert!(!frames(&mut transcoder).is_empty());
}

#[test]
fn aac_of_another_rate_is_converted() {
    let from = AudioTarget { sample_rate: 32_000, channels: 2, kbps: 96 };
    let mut source = transcoder(from, Some(&g711(Law::A)));
    for packet in 0..200 {
        source.push(BEGIN + packet * PACKET, &tone(Law::A, packet * 160)).unwrap();
    }
    let mut transcoder = transcoder(TARGET, Some(source.config()));
    for frame in frames(&mut source) {
        transcoder.push(frame.pts, &frame.data).unwrap();
    }
    let decoded = Decoded::of(&transcoder.config().clone(), &frames(&mut transcoder));
    let found = amplitude(decoded.between(BEGIN + 90_000, BEGIN + 270_000), 48_000, 440.0);
    assert!((found - 0.5).abs() < 0.03, "amplitude {found}");
}
