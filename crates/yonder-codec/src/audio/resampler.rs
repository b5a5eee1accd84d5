//! Conversion of the sampling rate, with a fine adjustment that follows the source's clock.

use rubato::audioadapter_buffers::direct::InterleavedSlice;
use rubato::{
    Adjustable as _, Async, FixedAsync, Resampler as _, SincInterpolationParameters, WindowFunction,
};

use crate::error::CodecError;

/// Length of the interpolation filter: enough for speech and ambient sound, at a few per mille of a core.
const FILTER_LENGTH: usize = 64;
/// Input samples per step.
const CHUNK: usize = 160;
/// Range of the fine adjustment.
const MAX_ADJUSTMENT: f64 = 1.02;

/// Resampler of one stream.
pub(crate) struct Resampler {
    inner: Async<f32>,
    channels: usize,
    /// Interleaved input that does not fill a step yet.
    input: Vec<f32>,
    output: Vec<f32>,
    /// Output frames still to be dropped: the filter's delay at the start.
    to_drop: usize,
    /// Output frames per input frame.
    ratio: f64,
}

impl std::fmt::Debug for Resampler {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Resampler")
            .field("channels", &self.channels)
            .field("ratio", &self.ratio)
            .finish_non_exhaustive()
    }
}

impl Resampler {
    /// Creates a resampler.
    ///
    /// # Errors
    /// [`CodecError::Resampler`] for rates that are not positive.
    pub(crate) fn new(from: u32, to: u32, channels: u8) -> Result<Self, CodecError> {
        let ratio = f64::from(to) / f64::from(from);
        let parameters = SincInterpolationParameters::new(FILTER_LENGTH, WindowFunction::BlackmanHarris2);
        let channels = usize::from(channels);
        let inner = Async::new_sinc(ratio, MAX_ADJUSTMENT, &parameters, CHUNK, channels, FixedAsync::Input)
            .map_err(|error| CodecError::Resampler(error.to_string()))?;
        let to_drop = inner.output_delay();
        let output = vec![0.0; inner.output_frames_max() * channels];
        Ok(Self { inner, channels, input: Vec::new(), output, to_drop, ratio })
    }

    /// Discards everything inside, as at the beginning of a stream.
    pub(crate) fn reset(&mut self) {
        self.inner.reset();
        self.input.clear();
        self.to_drop = self.inner.output_delay();
    }

    /// Sets the fine adjustment of the ratio, 1 for none.
    pub(crate) fn adjust(&mut self, factor: f64) {
        let factor = factor.clamp(1.0 / MAX_ADJUSTMENT, MAX_ADJUSTMENT);
        // In range, so that it cannot fail.
        let _set = self.inner.set_resample_ratio_relative(factor, true);
    }

    /// Returns the frames that are inside the resampler, as output frames: input that was not yet converted, and the
    /// filter's delay.
    pub(crate) fn pending(&self) -> f64 {
        let waiting = self.input.len() / self.channels.max(1);
        #[expect(clippy::as_conversions, clippy::cast_precision_loss, reason = "small numbers")]
        let (waiting, delay) = (waiting as f64, (self.inner.output_delay() - self.to_drop) as f64);
        waiting * self.ratio + delay
    }

    /// Resamples interleaved samples, and appends the result to `out`. Up to one step stays inside.
    ///
    /// # Errors
    /// [`CodecError::Resampler`].
    pub(crate) fn process(&mut self, samples: &[f32], out: &mut Vec<f32>) -> Result<(), CodecError> {
        self.input.extend_from_slice(samples);
        loop {
            let needed = self.inner.input_frames_next();
            if self.input.len() < needed * self.channels {
                return Ok(());
            }
            let failed = |error: &dyn std::fmt::Display| CodecError::Resampler(error.to_string());
            let input =
                InterleavedSlice::new(&self.input, self.channels, needed).map_err(|error| failed(&error))?;
            let capacity = self.output.len() / self.channels;
            let mut output = InterleavedSlice::new_mut(&mut self.output, self.channels, capacity)
                .map_err(|error| failed(&error))?;
            let (read, written) =
                self.inner.process_into_buffer(&input, &mut output, None).map_err(|error| failed(&error))?;
            self.input.drain(..read * self.channels);
            let dropped = self.to_drop.min(written);
            self.to_drop -= dropped;
            out.extend_from_slice(
                self.output.get(dropped * self.channels..written * self.channels).unwrap_or_default(),
            );
        }
    }
}
