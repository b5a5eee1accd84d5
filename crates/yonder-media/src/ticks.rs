//! Conversions of times in ticks of 1/90 000 s, the clock of feeds (as in MPEG systems and RTP video).

/// Ticks per second.
pub const TICKS_PER_SECOND: i64 = 90_000;

/// Ticks per millisecond.
const TICKS_PER_MILLISECOND: i64 = TICKS_PER_SECOND / 1_000;

/// Converts ticks to milliseconds, rounded toward zero.
#[must_use]
pub const fn to_millis(ticks: i64) -> i64 {
    ticks / TICKS_PER_MILLISECOND
}

/// Converts ticks to microseconds.
#[must_use]
pub const fn to_micros(ticks: i64) -> i64 {
    ticks.saturating_mul(100) / 9
}

/// Converts milliseconds to ticks.
#[must_use]
pub const fn from_millis(millis: i64) -> i64 {
    millis.saturating_mul(TICKS_PER_MILLISECOND)
}

/// Returns the duration of `samples` audio samples at `sample_rate` hertz, in ticks; a rate of zero counts as one.
#[must_use]
pub fn of_samples(samples: i64, sample_rate: u32) -> i64 {
    samples.saturating_mul(TICKS_PER_SECOND) / i64::from(sample_rate.max(1))
}

/// Frame rate as a fraction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FrameRate {
    /// Frames in `per` seconds.
    pub frames: u32,
    /// Seconds.
    pub per: u32,
}

impl FrameRate {
    /// Returns the duration of a frame in ticks; a rate of zero counts as one.
    #[must_use]
    pub fn frame_ticks(self) -> i64 {
        i64::from(self.per) * TICKS_PER_SECOND / i64::from(self.frames.max(1))
    }

    /// Returns the frames per second.
    #[must_use]
    pub fn fps(self) -> f64 {
        f64::from(self.frames) / f64::from(self.per.max(1))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_converted() {
        assert_eq!((to_millis(3_600), to_micros(3_600), from_millis(40)), (40, 40_000, 3_600));
        assert_eq!((to_millis(-90), to_micros(i64::MAX)), (-1, i64::MAX / 9));
        assert_eq!((of_samples(1_024, 48_000), of_samples(1, 0)), (1_920, 90_000));
    }

    #[test]
    fn frame_rates_are_fractions() {
        let ntsc = FrameRate { frames: 30_000, per: 1_001 };
        assert_eq!(ntsc.frame_ticks(), 3_003);
        assert!((ntsc.fps() - 29.97).abs() < 0.01);
        assert_eq!(FrameRate { frames: 0, per: 1 }.frame_ticks(), 90_000);
    }
}
