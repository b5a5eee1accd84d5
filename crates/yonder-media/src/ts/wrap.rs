//! 33-bit times on a line that does not wrap.

use super::packet::CLOCK_BITS;

/// A running time, told in 33 bits.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Unwrapped {
    last: Option<i64>,
}

impl Unwrapped {
    /// The time `told`, taken as the one nearest to the last; the next is taken near to it.
    pub(super) fn advance(&mut self, told: i64) -> i64 {
        let time = self.near(told);
        self.last = Some(time);
        time
    }

    /// The time `told`, taken as the one nearest to the last.
    pub(super) fn near(&self, told: i64) -> i64 {
        let Some(last) = self.last else { return told };
        let half = 1_i64 << (CLOCK_BITS - 1);
        let apart = (told - last + half).rem_euclid(1 << CLOCK_BITS) - half;
        last + apart
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_go_on_across_the_wrap_and_back() {
        let mut clock = Unwrapped::default();
        let last = (1 << 33) - 10;
        assert_eq!(clock.advance(last), last);
        assert_eq!(clock.near(5), (1 << 33) + 5);
        assert_eq!(clock.advance(20), (1 << 33) + 20);
        assert_eq!(clock.near(last), last);
    }
}
