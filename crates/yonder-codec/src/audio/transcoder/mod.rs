//! Transcoder of a feed's audio to AAC-LC on one continuous sample clock.

use std::collections::VecDeque;

use bytes::Bytes;
use yonder_media::aac::{AudioSpecificConfig, SAMPLES_PER_FRAME};
use yonder_media::{AudioConfig, TICKS_PER_SECOND};

use crate::audio::aac_encoder::{AacEncoder, DELAY};
use crate::audio::channels;
use crate::audio::decoder::AudioDecoder;
use crate::audio::decoders::decoder_of;
use crate::audio::resampler::Resampler;
use crate::error::CodecError;

/// Deviation of the source's timestamps from the sample clock, in seconds, that is corrected by resampling. A larger one is
/// a gap or an overlap.
const MAX_DEVIATION_S: f64 = 0.02;
/// Time, in seconds, in which a deviation is corrected: slow enough that the pitch does not change audibly.
const CORRECTION_S: f64 = 10.0;
/// Longest gap, in seconds, that is filled with silence. After a longer one the sample clock starts again.
const MAX_FILL_S: f64 = 1.0;
/// How long silence waits for late audio of a source, in ticks.
const MAX_WAIT: i64 = TICKS_PER_SECOND / 2;

/// Format of the encoded audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct AudioTarget {
    /// Sampling rate in hertz.
    pub sample_rate: u32,
    /// Channels, one or two.
    pub channels: u8,
    /// Bit rate in kilobits per second.
    pub kbps: u32,
}

/// Encoded AAC frame.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EncodedFrame {
    /// Time of its first sample, in ticks of the source's clock.
    pub pts: i64,
    /// Raw AAC frame.
    pub data: Bytes,
}

/// Stages of the present source.
#[derive(Debug)]
struct Source {
    config: AudioConfig,
    decoder: Box<dyn AudioDecoder>,
    resampler: Resampler,
}

/// Mapping of samples to times: sample `n` of the output is at `origin + n / sample rate`.
#[derive(Debug, Clone, Copy)]
struct SampleClock {
    /// Time of sample 0, in ticks.
    origin: i64,
    /// Samples per channel that were produced.
    produced: i64,
    /// Samples per channel that were encoded.
    encoded: i64,
}

/// Transcoder of one stream. It continues over changes, gaps and restarts of its source.
#[derive(Debug)]
pub struct AudioTranscoder {
    target: AudioTarget,
    config: AudioConfig,
    encoder: AacEncoder,
    source: Option<Source>,
    clock: Option<SampleClock>,
    /// End of the last encoded frame, in ticks.
    end: Option<i64>,
    /// Interleaved samples to be encoded.
    ready: VecDeque<f32>,
    frames: VecDeque<EncodedFrame>,
    /// Buffers of one call, reused.
    decoded: Vec<f32>,
    converted: Vec<f32>,
    resampled: Vec<f32>,
}

impl AudioTranscoder {
    /// Creates a transcoder without a source.
    ///
    /// # Errors
    /// [`CodecError::UnsupportedTarget`].
    pub fn new(target: AudioTarget) -> Result<Self, CodecError> {
        let AudioTarget { sample_rate, channels, kbps } = target;
        let config = AudioSpecificConfig::lc(sample_rate, channels).and_then(AudioConfig::aac);
        let config = config.ok_or(CodecError::UnsupportedTarget { sample_rate, channels, kbps })?;
        Ok(Self {
            target,
            config,
            encoder: AacEncoder::new(sample_rate, channels, kbps)?,
            source: None,
            clock: None,
            end: None,
            ready: VecDeque::new(),
            frames: VecDeque::new(),
            decoded: Vec::new(),
            converted: Vec::new(),
            resampled: Vec::new(),
        })
    }

    /// Returns the configuration of the encoded audio.
    #[must_use]
    pub fn config(&self) -> &AudioConfig {
        &self.config
    }

    /// Sets the source; `None` for a feed without audio, which is encoded as silence.
    ///
    /// # Errors
    /// [`CodecError::UnsupportedSource`]; the transcoder is without a source then.
    pub fn set_source(&mut self, config: Option<&AudioConfig>) -> Result<(), CodecError> {
        if self.source.as_ref().map(|source| &source.config) == config {
            return Ok(());
        }
        self.source = None;
        let Some(config) = config else { return Ok(()) };
        let decoder = decoder_of(config)?;
        let AudioTarget { sample_rate, channels, .. } = self.target;
        let resampler = Resampler::new(config.sample_rate(), sample_rate, channels)?;
        self.source = Some(Source { config: config.clone(), decoder, resampler });
        Ok(())
    }

    /// Decodes an audio frame of the source, and encodes what is complete. A frame without a source is ignored.
    ///
    /// # Errors
    /// [`CodecError::Encoder`] and [`CodecError::Resampler`]; the transcoder should be replaced then.
    pub fn push(&mut self, pts: i64, frame: &[u8]) -> Result<(), CodecError> {
        let Some(mut source) = self.source.take() else { return Ok(()) };
        let pushed = self.push_to(&mut source, pts, frame);
        self.source = Some(source);
        pushed?;
        self.encode()
    }

    fn push_to(&mut self, source: &mut Source, pts: i64, frame: &[u8]) -> Result<(), CodecError> {
        self.decoded.clear();
        // Frames that are dropped below are decoded too, since later ones overlap with them.
        source.decoder.decode(frame, &mut self.decoded);
        let deviation = self.deviation(pts, source.resampler.pending());
        let rate = f64::from(self.target.sample_rate);
        match deviation / rate {
            seconds if seconds.abs() > MAX_FILL_S => {
                self.restart(pts);
                source.resampler.reset();
            }
            seconds if seconds > MAX_DEVIATION_S => {
                source.resampler.reset();
                self.fill(self.samples_until(pts));
            }
            seconds if seconds < -MAX_DEVIATION_S => return Ok(()),
            seconds => source.resampler.adjust(1.0 + seconds / CORRECTION_S),
        }
        self.converted.clear();
        channels::convert(&self.decoded, source.config.channels(), self.target.channels, &mut self.converted);
        self.resampled.clear();
        source.resampler.process(&self.converted, &mut self.resampled)?;
        self.ready.extend(&self.resampled);
        if let Some(clock) = &mut self.clock {
            clock.produced += count(self.resampled.len() / usize::from(self.target.channels));
        }
        Ok(())
    }

    /// Encodes silence where there was no audio: with a source up to half a second before `pts`, and without one until the
    /// last frame begins at `pts` or later.
    ///
    /// # Errors
    /// [`CodecError::Encoder`].
    pub fn fill_until(&mut self, pts: i64) -> Result<(), CodecError> {
        let until = if self.source.is_some() {
            pts.saturating_sub(MAX_WAIT)
        } else {
            pts.saturating_add(self.ticks(i64::from(DELAY) + 2 * i64::from(SAMPLES_PER_FRAME)))
        };
        let max = count_of_seconds(MAX_FILL_S, self.target.sample_rate);
        if self.clock.is_none() || self.samples_until(until) > max {
            self.restart(pts);
        }
        let missing = self.samples_until(until);
        if missing > 0 {
            // The filter of the source would continue with samples from before the gap.
            if let Some(source) = &mut self.source {
                source.resampler.reset();
            }
            self.fill(missing);
        }
        self.encode()
    }

    /// Returns the next encoded frame.
    pub fn next_frame(&mut self) -> Option<EncodedFrame> {
        self.frames.pop_front()
    }

    /// Begins the sample clock at `pts`, but not before the end of the last frame.
    fn restart(&mut self, pts: i64) {
        self.ready.clear();
        let earliest = self.end.map_or(i64::MIN, |end| end + self.ticks(i64::from(DELAY)));
        self.clock = Some(SampleClock { origin: pts.max(earliest), produced: 0, encoded: 0 });
    }

    /// Returns how many samples the time `pts` is ahead of the samples that were produced and those that are pending.
    fn deviation(&mut self, pts: i64, pending: f64) -> f64 {
        if self.clock.is_none() {
            self.restart(pts);
        }
        let Some(clock) = self.clock else { return 0.0 };
        #[expect(
            clippy::as_conversions,
            clippy::cast_precision_loss,
            reason = "both are below 2^53 for centuries"
        )]
        let (passed, produced) = ((pts - clock.origin) as f64, clock.produced as f64);
        passed * f64::from(self.target.sample_rate) / 90_000.0 - produced - pending
    }

    /// Returns the samples that are missing until `pts`; negative if there are more.
    fn samples_until(&self, pts: i64) -> i64 {
        self.clock.map_or(0, |clock| {
            (pts - clock.origin) * i64::from(self.target.sample_rate) / TICKS_PER_SECOND - clock.produced
        })
    }

    fn ticks(&self, samples: i64) -> i64 {
        samples * TICKS_PER_SECOND / i64::from(self.target.sample_rate)
    }

    fn fill(&mut self, samples: i64) {
        let Some(clock) = &mut self.clock else { return };
        let samples = samples.max(0);
        clock.produced += samples;
        let values = usize::try_from(samples).unwrap_or_default() * usize::from(self.target.channels);
        self.ready.extend(std::iter::repeat_n(0.0, values));
    }

    /// Encodes all complete frames.
    fn encode(&mut self) -> Result<(), CodecError> {
        let Some(mut clock) = self.clock else { return Ok(()) };
        let per_frame = i64::from(SAMPLES_PER_FRAME);
        let values =
            usize::try_from(SAMPLES_PER_FRAME).unwrap_or_default() * usize::from(self.target.channels);
        while self.ready.len() >= values {
            let data = self.encoder.encode(self.ready.drain(..values))?;
            let pts = clock.origin + self.ticks(clock.encoded - i64::from(DELAY));
            clock.encoded += per_frame;
            self.end = Some(clock.origin + self.ticks(clock.encoded - i64::from(DELAY)));
            self.frames.push_back(EncodedFrame { pts, data });
        }
        self.clock = Some(clock);
        Ok(())
    }
}

fn count(length: usize) -> i64 {
    i64::try_from(length).unwrap_or(i64::MAX)
}

fn count_of_seconds(seconds: f64, sample_rate: u32) -> i64 {
    #[expect(clippy::as_conversions, clippy::cast_possible_truncation, reason = "a second of samples")]
    let samples = (seconds * f64::from(sample_rate)) as i64;
    samples
}

#[cfg(test)]
mod tests;
