//! Round-trip time (4.10).

use std::time::Duration;

const FIRST: Duration = Duration::from_millis(100);
const FIRST_VARIANCE: Duration = Duration::from_millis(50);
/// Maximum sample; longer ones are invalid or a stall and must not stretch the timers.
const LONGEST: Duration = Duration::from_secs(10);

/// Smoothed round-trip time and its mean deviation.
#[derive(Debug, Clone, Copy)]
pub(super) struct Rtt {
    smoothed: Duration,
    variance: Duration,
    measured: bool,
}

impl Default for Rtt {
    fn default() -> Self {
        Self { smoothed: FIRST, variance: FIRST_VARIANCE, measured: false }
    }
}

impl Rtt {
    /// Creates the estimate from the round-trip time of the handshake.
    pub(super) fn of_handshake(sample: Duration) -> Self {
        let mut rtt = Self::default();
        rtt.take_sample(sample);
        rtt
    }

    /// Returns true once it was measured.
    pub(super) fn is_measured(&self) -> bool {
        self.measured
    }

    pub(super) fn smoothed(&self) -> Duration {
        self.smoothed
    }

    pub(super) fn variance(&self) -> Duration {
        self.variance
    }

    /// Adds a round-trip time of our own acknowledgement.
    pub(super) fn take_sample(&mut self, sample: Duration) {
        let sample = sample.min(LONGEST);
        if !self.measured {
            (self.smoothed, self.variance, self.measured) = (sample, sample / 2, true);
            return;
        }
        self.variance = (self.variance * 3 + self.smoothed.abs_diff(sample)) / 4;
        self.smoothed = (self.smoothed * 7 + sample) / 8;
    }

    /// Applies the round-trip time that the peer measured, the only one for a side that only sends.
    pub(super) fn take_peers(&mut self, rtt_us: u32, variance_us: u32) {
        if rtt_us > 0 {
            self.smoothed = Duration::from_micros(u64::from(rtt_us)).min(LONGEST);
            self.variance = Duration::from_micros(u64::from(variance_us)).min(LONGEST);
            self.measured = true;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn constant_round_trip_time_converges() {
        let mut rtt = Rtt::default();
        for _ in 0..50 {
            rtt.take_sample(Duration::from_millis(30));
        }
        assert_eq!(rtt.smoothed().as_millis(), 30);
        assert!(rtt.variance() < Duration::from_millis(1));
        rtt.take_peers(80_000, 4_000);
        assert_eq!(rtt.smoothed(), Duration::from_millis(80));
    }
}
