//! Measurement of the codecs' speed on this machine.

use std::sync::OnceLock;
use std::time::Duration;

use rustix::time::{ClockId, clock_gettime};
use yonder_codec::{AudioTarget, AudioTranscoder, CodecError, VideoTarget, VideoTranscoder, encode_sample};
use yonder_core::rendition::CodecSpeed;
use yonder_media::AudioConfig;
use yonder_media::g711::Law;

/// Speed that is assumed if the measurement fails: that of a slow machine.
const ASSUMED: CodecSpeed =
    CodecSpeed { decoded_per_s: 50_000_000.0, encoded_per_s: 10_000_000.0, cores_per_channel: 0.03 };
/// Size and number of the pictures that are encoded for the measurement.
const PATTERN: (u32, u32) = (640, 360);
const PATTERN_PICTURES: i64 = 20;
/// Audio that is encoded for the measurement, in packets of 20 ms.
const PACKETS: i64 = 100;
const PACKET_TICKS: i64 = 1_800;
const PACKET_SAMPLES: usize = 160;

/// Returns the speed of the codecs, which the first call measures with about a tenth of a second of processor time.
pub fn codec_speed() -> CodecSpeed {
    static SPEED: OnceLock<CodecSpeed> = OnceLock::new();
    *SPEED.get_or_init(|| {
        measure().unwrap_or_else(|error| {
            tracing::warn!(%error, "speed of the codecs not measured");
            ASSUMED
        })
    })
}

fn measure() -> Result<CodecSpeed, CodecError> {
    let (decoded_per_s, encoded_per_s) = samples_per_s()?;
    Ok(CodecSpeed { decoded_per_s, encoded_per_s, cores_per_channel: cores_per_channel()? })
}

/// Measures the samples that one core decodes, and encodes, per second.
fn samples_per_s() -> Result<(f64, f64), CodecError> {
    let begin = cpu_time();
    let (config, units) = encode_sample(PATTERN.0, PATTERN.1, PATTERN_PICTURES)?;
    let encoded = cpu_time();
    // None but the first picture is encoded.
    let mut transcoder = VideoTranscoder::new(VideoTarget {
        width: 64,
        height: 36,
        frame_divisor: u32::MAX,
        fps: 25.0,
        kbps: 64,
        keyframe_interval_s: 2.0,
    });
    transcoder.set_source(&config)?;
    for unit in &units {
        transcoder.push(unit)?;
    }
    let decoded = cpu_time();
    let count = u32::try_from(units.len()).unwrap_or(1);
    let samples = f64::from(PATTERN.0) * f64::from(PATTERN.1) * f64::from(count);
    let rate = |time: Duration| samples / time.as_secs_f64().max(1e-6);
    Ok((rate(decoded.saturating_sub(encoded)), rate(encoded.saturating_sub(begin))))
}

/// Measures the cores that one audio channel occupies.
fn cores_per_channel() -> Result<f64, CodecError> {
    let mut transcoder = AudioTranscoder::new(AudioTarget { sample_rate: 48_000, channels: 1, kbps: 64 })?;
    transcoder.set_source(Some(&AudioConfig::G711 { law: Law::A, sample_rate: 8_000, channels: 1 }))?;
    // Any bytes are samples; these sound like noise, which costs the most.
    let noise: Vec<u8> = (0..PACKET_SAMPLES).map(|at| (at * 89 % 256).to_le_bytes()[0]).collect();
    let begin = cpu_time();
    for packet in 0..PACKETS {
        transcoder.push(packet * PACKET_TICKS, &noise)?;
        while transcoder.next_frame().is_some() {}
    }
    let audio = Duration::from_millis(20) * u32::try_from(PACKETS).unwrap_or(1);
    Ok(cpu_time().saturating_sub(begin).as_secs_f64() / audio.as_secs_f64())
}

/// Returns the processor time of the calling thread.
pub(super) fn cpu_time() -> Duration {
    let time = clock_gettime(ClockId::ThreadCPUTime);
    let seconds = u64::try_from(time.tv_sec).unwrap_or_default();
    Duration::new(seconds, u32::try_from(time.tv_nsec).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_audio_channel_takes_a_small_part_of_a_core() {
        let cores = cores_per_channel().unwrap();
        assert!(cores > 0.000_1 && cores < 0.5, "{cores}");
    }

    #[test]
    fn decoding_is_faster_than_encoding() {
        let (decoded, encoded) = samples_per_s().unwrap();
        assert!(encoded > 1e6 && decoded > encoded, "{decoded} decoded, {encoded} encoded");
    }
}
