//! Unwrapping of 33-bit timestamps.

use super::packet::CLOCK_BITS;

/// Unwrapped time of 33-bit ticks.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Unwrapped {
    last: Option<i64>,
}

impl Unwrapped {
    /// Unwraps `ticks` to the time nearest to the last one, which it replaces.
    pub(super) fn advance(&mut self, ticks: i64) -> i64 {
        let time = self.near(ticks);
        self.last = Some(time);
        time
    }

    /// Unwraps `ticks` to the time nearest to the last one.
    pub(super) fn near(&self, ticks: i64) -> i64 {
        let Some(last) = self.last else { return ticks };
        let half = 1_i64 << (CLOCK_BITS - 1);
        let apart = (ticks - last + half).rem_euclid(1 << CLOCK_BITS) - half;
        last + apart
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_continue_across_the_wrap_and_back() {
        let mut clock = Unwrapped::default();
        let last = (1 << 33) - 10;
        assert_eq!(clock.advance(last), last);
        assert_eq!(clock.near(5), (1 << 33) + 5);
        assert_eq!(clock.advance(20), (1 << 33) + 20);
        assert_eq!(clock.near(last), last);
    }
}
