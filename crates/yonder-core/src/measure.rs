//! Measured rates: bytes per second over a sliding window, frame rate and keyframe interval of a picture.

use std::collections::VecDeque;
use std::time::Duration;

/// Length of one counting slot.
const SLOT: Duration = Duration::from_millis(250);
/// Whole slots that a rate is taken over: four seconds, so that one keyframe more or less shows little.
const SLOTS: usize = 16;

/// Bits per second over the last four seconds. Memory is fixed.
#[derive(Debug, Clone, Default)]
pub struct RateMeter {
    /// Bytes per slot, oldest first; the last one is being filled.
    slots: VecDeque<u64>,
    /// When the slot being filled began.
    begun: Duration,
    started: Option<Duration>,
}

impl RateMeter {
    /// Counts `bytes` at `now`.
    pub fn add(&mut self, bytes: usize, now: Duration) {
        self.advance(now);
        if let Some(slot) = self.slots.back_mut() {
            *slot += u64::try_from(bytes).unwrap_or_default();
        }
    }

    /// Kilobits (1000 bits) per second, over the whole slots before `now`.
    #[must_use]
    pub fn kbps(&mut self, now: Duration) -> u64 {
        self.advance(now);
        let whole = self.slots.len().saturating_sub(1);
        let bytes: u64 = self.slots.iter().take(whole).sum();
        let span_ms = u64::try_from(SLOT.as_millis()).unwrap_or(1) * u64::try_from(whole).unwrap_or_default();
        (bytes * 8).checked_div(span_ms).unwrap_or_default()
    }

    fn advance(&mut self, now: Duration) {
        if self.started.is_none() {
            self.started = Some(now);
            self.begun = now;
            self.slots.push_back(0);
        }
        let silent = now.saturating_sub(self.begun).as_millis() / SLOT.as_millis();
        let steps = usize::try_from(silent).unwrap_or(usize::MAX);
        for _ in 0..steps.min(SLOTS + 1) {
            self.slots.push_back(0);
        }
        while self.slots.len() > SLOTS + 1 {
            self.slots.pop_front();
        }
        self.begun += SLOT * u32::try_from(silent).unwrap_or(u32::MAX);
    }
}

/// Frame rate and keyframe interval from presentation times in ticks of 1/90 000 s.
#[derive(Debug, Clone, Default)]
pub struct PictureMeter {
    recent: VecDeque<i64>,
    last_keyframe: Option<i64>,
    keyframe_interval: Option<i64>,
}

/// Pictures that the frame rate is taken over.
const RECENT: usize = 64;
const TICKS_PER_SECOND: f64 = 90_000.0;

impl PictureMeter {
    /// Counts a picture decoded at `dts`.
    pub fn add(&mut self, dts: i64, keyframe: bool) {
        if self.recent.len() == RECENT {
            self.recent.pop_front();
        }
        self.recent.push_back(dts);
        if keyframe {
            self.keyframe_interval = self.last_keyframe.map(|last| dts - last).or(self.keyframe_interval);
            self.last_keyframe = Some(dts);
        }
    }

    /// Forgets the rhythm: what follows belongs to another session.
    pub fn restart(&mut self) {
        self.recent.clear();
        self.last_keyframe = None;
    }

    /// Frames per second over the last pictures, once there are a few.
    #[must_use]
    pub fn fps(&self) -> Option<f64> {
        let span = self.recent.back()? - self.recent.front()?;
        if self.recent.len() < 8 || span <= 0 {
            return None;
        }
        let intervals = u32::try_from(self.recent.len() - 1).ok()?;
        Some(f64::from(intervals) * TICKS_PER_SECOND / seconds_of(span))
    }

    /// Seconds between the last two keyframes.
    #[must_use]
    pub fn keyframe_interval_s(&self) -> Option<f64> {
        self.keyframe_interval.map(|ticks| seconds_of(ticks) / TICKS_PER_SECOND)
    }
}

/// Ticks as a float; spans here are far below the 2^53 at which precision ends.
fn seconds_of(ticks: i64) -> f64 {
    u32::try_from(ticks.max(0)).map_or_else(|_| f64::from(u32::MAX), f64::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ms(ms: u64) -> Duration {
        Duration::from_millis(ms)
    }

    #[test]
    fn a_steady_stream_is_measured_exactly() {
        let mut meter = RateMeter::default();
        for tick in 0..400 {
            meter.add(1_250, ms(tick * 10)); // 125 kB/s
        }
        assert_eq!(meter.kbps(ms(4_000)), 1_000);
    }

    #[test]
    fn silence_brings_the_rate_to_zero_within_the_window() {
        let mut meter = RateMeter::default();
        for tick in 0..400 {
            meter.add(1_250, ms(tick * 10));
        }
        assert!(meter.kbps(ms(5_000)) > 0);
        assert_eq!(meter.kbps(ms(8_500)), 0);
        assert_eq!(meter.kbps(ms(500_000)), 0);
        assert!(meter.slots.len() <= SLOTS + 1);
    }

    #[test]
    fn the_first_moments_are_not_averaged_with_nothing() {
        let mut meter = RateMeter::default();
        for tick in 0..60 {
            meter.add(1_250, ms(tick * 10));
        }
        assert_eq!(meter.kbps(ms(600)), 1_000);
    }

    #[test]
    fn frame_rate_and_keyframe_interval_are_measured() {
        let mut meter = PictureMeter::default();
        assert_eq!(meter.fps(), None);
        for frame in 0..200 {
            meter.add(frame * 3_600, frame % 50 == 0);
        }
        assert_eq!(meter.fps(), Some(25.0));
        assert_eq!(meter.keyframe_interval_s(), Some(2.0));
        meter.restart();
        meter.add(99_999_999, true);
        assert_eq!(meter.keyframe_interval_s(), Some(2.0));
    }
}
