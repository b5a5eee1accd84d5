//! Pacer: maps the transport clock of the multiplexer to transmission times.

use std::time::Duration;

use yonder_media::ticks::to_micros;

/// Maximum arrival jitter that is absorbed, in microseconds. Later units move the mapping.
const MAX_JITTER: i64 = 60_000;
/// Fraction of the elapsed time by which the delay decays: 1 ms per second, which clock recovery follows.
const DECAY_DIVISOR: i64 = 1_000;
/// Speed relative to real time of a push that catches up, after it joined or after a stall.
const CATCH_UP_FACTOR: i64 = 8;

/// Begin of the current unit, in microseconds.
#[derive(Debug, Clone, Copy, Default)]
struct PacedUnit {
    /// Transport clock.
    clock: i64,
    /// Transmission time.
    sent: i64,
}

/// Mapping from transport clock to transmission time.
///
/// A receiver recovers its clock from the arrival of clock references, but units arrive with the jitter of the camera's
/// network. So each is sent at a constant offset to its time on the transport clock: the maximum lateness of the last
/// seconds, up to [`MAX_JITTER`].
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Pacer {
    /// Transmission time minus transport clock, in microseconds; `None` before the first unit.
    offset: Option<i64>,
    unit: PacedUnit,
    /// Time of the last packet, in microseconds, since times never step back.
    last: i64,
    is_catching_up: bool,
}

impl Pacer {
    /// Begins a unit at `clock` of the transport clock, in ticks, that is queued at `now`. `is_behind` is true if later
    /// units are already waiting.
    pub(super) fn begin(&mut self, clock: i64, now: Duration, is_behind: bool) {
        let (clock, now) = (to_micros(clock), i64::try_from(now.as_micros()).unwrap_or(i64::MAX));
        let soonest = self.last.max(now);
        let elapsed = (clock - self.unit.clock).clamp(0, 1_000_000);
        self.is_catching_up = is_behind || soonest - now > MAX_JITTER;
        let begin = match self.offset {
            Some(offset) if !self.is_catching_up => {
                let planned = clock + offset - elapsed / DECAY_DIVISOR;
                planned.clamp(soonest, soonest.max(now + MAX_JITTER))
            }
            _ => soonest,
        };
        self.offset = Some(begin - clock);
        self.unit = PacedUnit { clock, sent: begin };
    }

    /// Returns the transmission time of a packet of the current unit.
    pub(super) fn time_of(&mut self, clock: i64) -> Duration {
        let after = (to_micros(clock) - self.unit.clock).max(0);
        let after = if self.is_catching_up { after / CATCH_UP_FACTOR } else { after };
        self.last = self.last.max(self.unit.sent + after);
        Duration::from_micros(u64::try_from(self.last).unwrap_or_default())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: i64 = 3_600;

    fn ms(ms: i64) -> Duration {
        Duration::from_millis(u64::try_from(ms).unwrap())
    }

    #[test]
    fn units_that_arrive_irregularly_are_sent_evenly() {
        let mut pacer = Pacer::default();
        let mut times = Vec::new();
        for number in 0..500_i64 {
            let lateness = number * 7_919 % 31;
            pacer.begin(number * FRAME, ms(1_000 + number * 40 + lateness), false);
            times.push(pacer.time_of(number * FRAME));
        }
        let jitter =
            times.windows(2).skip(50).map(|pair| (pair[1] - pair[0]).abs_diff(ms(40))).max().unwrap();
        assert!(jitter < Duration::from_millis(3), "{jitter:?}");
        // The delay is the maximum lateness.
        let delay = times.last().unwrap().saturating_sub(ms(1_000 + 499 * 40));
        assert!(delay <= ms(31), "{delay:?}");
    }

    #[test]
    fn delay_shrinks_once_the_network_is_calm_again() {
        let mut pacer = Pacer::default();
        let mut delay = Duration::ZERO;
        for number in 0..2_000_i64 {
            let now = ms(1_000 + number * 40 + if number == 100 { 50 } else { 0 });
            pacer.begin(number * FRAME, now, false);
            delay = pacer.time_of(number * FRAME).saturating_sub(now);
            assert!(number != 101 || delay > ms(40), "{delay:?}");
        }
        assert!(delay < ms(2), "{delay:?}");
    }

    #[test]
    fn gap_moves_the_mapping_instead_of_delaying_what_follows() {
        let mut pacer = Pacer::default();
        pacer.begin(0, ms(1_000), false);
        pacer.time_of(0);
        pacer.begin(FRAME, ms(3_000), false);
        assert_eq!(pacer.time_of(FRAME), ms(3_000));
        // The transport clock follows the wall clock again.
        pacer.begin(2_000 * 90, ms(3_010), false);
        assert!(pacer.time_of(2_000 * 90) <= ms(3_070));
    }

    #[test]
    fn units_that_wait_are_sent_eight_times_as_fast() {
        let mut pacer = Pacer::default();
        let mut last = Duration::ZERO;
        for number in 0..100 {
            pacer.begin(number * FRAME, ms(1_000), true);
            last = pacer.time_of(number * FRAME + FRAME);
        }
        assert!((ms(1_490)..=ms(1_510)).contains(&last), "{last:?}");
    }
}
