//! Sequence numbers. Internally packets are counted without wrapping; the low bits are on the wire.

/// Bits of a packet sequence number (3.1).
const SEQUENCE_BITS: u32 = 31;
/// Maximum packet sequence number.
pub(crate) const SEQUENCE_MASK: u32 = (1 << SEQUENCE_BITS) - 1;
/// Maximum message number (3.1).
pub(crate) const MESSAGE_MASK: u32 = (1 << 26) - 1;

/// Returns the running number of the first packet, whose low bits are `initial`. An offset of one period leaves room to
/// count back.
pub(crate) fn first_number(initial: u32) -> u64 {
    (1 << SEQUENCE_BITS) | u64::from(initial & SEQUENCE_MASK)
}

/// Returns the sequence number on the wire.
pub(crate) fn on_wire(number: u64) -> u32 {
    u32::try_from(number & u64::from(SEQUENCE_MASK)).unwrap_or_default()
}

/// Returns the running number of a sequence number: the one nearest to `near`.
pub(crate) fn number_near(near: u64, sequence: u32) -> u64 {
    let ahead = (sequence & SEQUENCE_MASK).wrapping_sub(on_wire(near)) & SEQUENCE_MASK;
    if ahead < 1 << (SEQUENCE_BITS - 1) {
        near.saturating_add(u64::from(ahead))
    } else {
        near.saturating_sub(u64::from(SEQUENCE_MASK - ahead) + 1)
    }
}

/// Unwrapped microseconds from 32-bit ones, which wrap every 71 minutes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct UnwrappedMicros {
    last: i64,
}

impl UnwrappedMicros {
    pub(crate) fn new(first: u32) -> Self {
        Self { last: i64::from(first) }
    }

    pub(crate) fn advance(&mut self, micros: u32) -> i64 {
        let low = u32::try_from(self.last.rem_euclid(1 << 32)).unwrap_or_default();
        let ahead = i64::from(micros.wrapping_sub(low));
        let apart = if ahead < 1 << 31 { ahead } else { ahead - (1 << 32) };
        let time = self.last + apart;
        self.last = self.last.max(time);
        time
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_continue_across_the_wrap() {
        let first = first_number(SEQUENCE_MASK - 1);
        assert_eq!(on_wire(first + 1), SEQUENCE_MASK);
        assert_eq!(on_wire(first + 2), 0);
        assert_eq!(number_near(first + 1, 3), first + 5);
        assert_eq!(number_near(first + 5, SEQUENCE_MASK - 1), first);
    }

    proptest! {
        #[test]
        fn nearest_number_is_returned(initial: u32, at in 0_u64..1 << 40, apart in -1_000_000_i64..1_000_000) {
            let near = first_number(initial) + at;
            let number = near.saturating_add_signed(apart);
            prop_assert_eq!(number_near(near, on_wire(number)), number);
        }

        #[test]
        fn times_are_unwrapped(start: u32, steps in prop::collection::vec(-1_000_000_i64..10_000_000, 1..50)) {
            let mut clock = UnwrappedMicros::new(start);
            let mut time = i64::from(start);
            let mut most = time;
            for step in steps {
                time = (most + step).max(0);
                most = most.max(time);
                prop_assert_eq!(clock.advance(u32::try_from(time & 0xffff_ffff).unwrap()), time);
            }
        }
    }
}
