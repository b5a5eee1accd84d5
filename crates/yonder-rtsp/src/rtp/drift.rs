//! Drift of a camera's clock relative to ours.
//!
//! The network delays packets by varying times but never advances them, so the packet with the least delay in each
//! second is the most accurate. The slope of a line through those is the drift.

use std::time::Duration;

/// Minimum seconds before a result.
const MIN_SECONDS: f64 = 5.0;
/// Maximum length of a measurement, so that it reflects the present.
const WINDOW: Duration = Duration::from_secs(10 * 60);

/// Result of the measurement.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Drift {
    /// Parts per million; positive when the camera's clock is fast.
    pub ppm: f64,
    /// Standard error of that.
    pub uncertainty_ppm: f64,
}

/// Sums for a linear regression, in constant memory.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct DriftMeter {
    origin: Option<(Duration, i64)>,
    /// Drift of the previous window.
    previous: Option<Drift>,
    /// Current second and its minimum delay, in seconds.
    current: Option<(u64, f64)>,
    count: f64,
    sum_x: f64,
    sum_y: f64,
    sum_xx: f64,
    sum_xy: f64,
    sum_yy: f64,
}

impl DriftMeter {
    /// Adds a packet: unwrapped time in ticks of `rate` per second, and arrival.
    pub(super) fn add(&mut self, ticks: i64, rate: u32, now: Duration) {
        if self.origin.is_some_and(|(began, _)| now.saturating_sub(began) >= WINDOW) {
            *self = Self { previous: self.drift(), ..Self::default() };
        }
        let (began, first) = *self.origin.get_or_insert((now, ticks));
        let elapsed = now.saturating_sub(began).as_secs_f64();
        let Ok(step) = i32::try_from(ticks.saturating_sub(first) / 64) else { return };
        let media = f64::from(step) * 64.0 / f64::from(rate.max(1));
        let delay = elapsed - media;
        let second = now.saturating_sub(began).as_secs();
        match &mut self.current {
            Some((known, least)) if *known == second => *least = least.min(delay),
            current => {
                if let Some((known, least)) = current.replace((second, delay)) {
                    self.take(known, least);
                }
            }
        }
    }

    fn take(&mut self, second: u64, y: f64) {
        let x = Duration::from_secs(second).as_secs_f64();
        self.count += 1.0;
        self.sum_x += x;
        self.sum_y += y;
        self.sum_xx += x * x;
        self.sum_xy += x * y;
        self.sum_yy += y * y;
    }

    /// Returns the drift; `None` before there is enough data.
    #[must_use]
    pub(super) fn drift(&self) -> Option<Drift> {
        if self.count < MIN_SECONDS {
            return self.previous;
        }
        let n = self.count;
        let spread = self.sum_xx - self.sum_x * self.sum_x / n;
        let together = self.sum_xy - self.sum_x * self.sum_y / n;
        let height = self.sum_yy - self.sum_y * self.sum_y / n;
        if spread <= 0.0 {
            return None;
        }
        let slope = together / spread;
        let residual = (height - slope * together).max(0.0);
        let error = (residual / (n - 2.0) / spread).sqrt();
        // A shrinking delay means that the camera's clock runs ahead of ours.
        Some(Drift { ppm: -slope * 1e6, uncertainty_ppm: error * 1e6 })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::true_clock(0.0)]
    #[case::fast(200.0)]
    #[case::slow(-80.0)]
    fn drift_is_found_through_the_noise_of_the_network(#[case] ppm: f64) {
        let mut meter = DriftMeter::default();
        let mut noise = 1_u64;
        for frame in 0..1_500_u32 {
            noise = noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let late = Duration::from_micros((noise >> 40) % 8_000);
            let now = Duration::from_secs_f64(f64::from(frame) * 0.04 / (1.0 + ppm / 1e6)) + late;
            meter.add(i64::from(frame) * 3_600, 90_000, now);
        }
        let drift = meter.drift().unwrap();
        assert!((drift.ppm - ppm).abs() < 4.0 * drift.uncertainty_ppm.max(5.0), "{drift:?}");
    }

    #[test]
    fn drift_of_the_fortieth_day_is_that_of_its_last_minutes() {
        let mut meter = DriftMeter::default();
        let (mut ticks, mut now) = (0_i64, Duration::ZERO);
        for second in 0..40 * 86_400_u32 {
            let ppm = if second < 39 * 86_400 { 100.0 } else { -50.0 };
            now += Duration::from_secs_f64(1.0 / (1.0 + ppm / 1e6));
            ticks += 90_000;
            meter.add(ticks, 90_000, now);
        }
        let drift = meter.drift().unwrap();
        assert!((drift.ppm + 50.0).abs() < 2.0, "{drift:?}");
    }

    #[test]
    fn a_few_seconds_yield_no_drift() {
        let mut meter = DriftMeter::default();
        for frame in 0..100 {
            meter.add(frame * 3_600, 90_000, Duration::from_millis(40) * u32::try_from(frame).unwrap());
        }
        assert_eq!(meter.drift(), None);
    }
}
