//! Meters for byte rate, frame rate and keyframe interval.

use std::collections::VecDeque;
use std::time::Duration;

use crate::ticks::to_seconds;

/// Length of one counting slot.
const SLOT: Duration = Duration::from_millis(250);
/// Complete slots in a measurement: four seconds, so that a single keyframe has little influence.
const SLOTS: usize = 16;

/// Bit rate over the last four seconds, in constant memory.
#[derive(Debug, Clone, Default)]
pub struct RateMeter {
    /// Bytes per slot, oldest first; the last one is incomplete.
    slots: VecDeque<u64>,
    /// Begin of the incomplete slot.
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

    /// Returns kilobits (1000 bits) per second over the complete slots before `now`.
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

/// Meter of frame rate and keyframe interval. Input are decoding times in ticks of 1/90 000 s.
#[derive(Debug, Clone, Default)]
pub struct FrameMeter {
    recent: VecDeque<i64>,
    last_keyframe: Option<i64>,
    keyframe_interval: Option<i64>,
}

/// Frames in a measurement of the frame rate.
const RECENT: usize = 64;

impl FrameMeter {
    /// Adds a frame decoded at `dts`.
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

    /// Resets the meter at the beginning of another session.
    pub fn restart(&mut self) {
        self.recent.clear();
        self.last_keyframe = None;
    }

    /// Returns the frame rate over the last frames; `None` before there are enough.
    #[must_use]
    pub fn fps(&self) -> Option<f64> {
        let span = self.recent.back()? - self.recent.front()?;
        if self.recent.len() < 8 || span <= 0 {
            return None;
        }
        let intervals = u32::try_from(self.recent.len() - 1).ok()?;
        Some(f64::from(intervals) / to_seconds(span))
    }

    /// Returns the seconds between the last two keyframes.
    #[must_use]
    pub fn keyframe_interval_s(&self) -> Option<f64> {
        self.keyframe_interval.map(to_seconds)
    }
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
    fn rate_is_zero_after_a_window_without_data() {
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
    fn first_slots_are_not_averaged_with_empty_ones() {
        let mut meter = RateMeter::default();
        for tick in 0..60 {
            meter.add(1_250, ms(tick * 10));
        }
        assert_eq!(meter.kbps(ms(600)), 1_000);
    }

    #[test]
    fn frame_rate_and_keyframe_interval_are_measured() {
        let mut meter = FrameMeter::default();
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
