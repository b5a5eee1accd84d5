//! Signals for tests, and measurements of decoded audio.

use std::f64::consts::TAU;

use yonder_media::AudioConfig;
use yonder_media::g711::Law;

use crate::EncodedFrame;
use crate::audio::decoders::decoder_of;

/// Returns sample `n` of a sine wave.
pub(crate) fn sine(n: i64, sample_rate: u32, hertz: f64, amplitude: f64) -> f64 {
    amplitude * (TAU * hertz * n as f64 / f64::from(sample_rate)).sin()
}

/// Encodes a sample by the nearest code of a law.
pub(crate) fn compand(law: Law, sample: f64) -> u8 {
    let wanted = (sample * 32_768.0) as i32;
    (0..=255).min_by_key(|byte| (i32::from(law.decode(*byte)) - wanted).abs()).unwrap()
}

/// Decoded output of a transcoder.
pub(crate) struct Decoded {
    /// Time of the first sample in ticks.
    pub(crate) begin: i64,
    /// Samples of the first channel.
    pub(crate) samples: Vec<f32>,
    pub(crate) sample_rate: u32,
}

impl Decoded {
    /// Decodes frames, which must follow each other without a gap, with a decoder by other authors.
    pub(crate) fn of(config: &AudioConfig, frames: &[EncodedFrame]) -> Self {
        let sample_rate = config.sample_rate();
        for pair in frames.windows(2) {
            let distance = pair[1].pts - pair[0].pts;
            assert!((distance - 1_024 * 90_000 / i64::from(sample_rate)).abs() <= 1, "{distance} ticks");
        }
        let mut decoder = decoder_of(config).unwrap();
        let mut interleaved = Vec::new();
        for frame in frames {
            decoder.decode(&frame.data, &mut interleaved);
        }
        let channels = usize::from(config.channels());
        let samples: Vec<f32> = interleaved.iter().step_by(channels).copied().collect();
        assert_eq!(samples.len(), frames.len() * 1_024);
        Self { begin: frames[0].pts, samples, sample_rate }
    }

    /// Returns the samples from `begin` to `end`, in ticks.
    pub(crate) fn between(&self, begin: i64, end: i64) -> &[f32] {
        let at = |ticks: i64| ((ticks - self.begin) * i64::from(self.sample_rate) / 90_000) as usize;
        &self.samples[at(begin)..at(end)]
    }

    /// Returns the time of the loudest sample, in ticks.
    pub(crate) fn peak(&self) -> i64 {
        let (at, _) = self.samples.iter().enumerate().max_by(|a, b| a.1.abs().total_cmp(&b.1.abs())).unwrap();
        self.begin + at as i64 * 90_000 / i64::from(self.sample_rate)
    }
}

/// Returns the root mean square.
pub(crate) fn level(samples: &[f32]) -> f64 {
    (samples.iter().map(|s| f64::from(*s).powi(2)).sum::<f64>() / samples.len() as f64).sqrt()
}

/// Returns the amplitude of a frequency (Goertzel's algorithm).
pub(crate) fn amplitude(samples: &[f32], sample_rate: u32, hertz: f64) -> f64 {
    let step = TAU * hertz / f64::from(sample_rate);
    let (mut re, mut im) = (0.0, 0.0);
    for (n, sample) in samples.iter().enumerate() {
        re += f64::from(*sample) * (step * n as f64).cos();
        im += f64::from(*sample) * (step * n as f64).sin();
    }
    2.0 * re.hypot(im) / samples.len() as f64
}
