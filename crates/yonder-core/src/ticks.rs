//! Conversions of times in ticks of 1/90 000 s, the unit of decoding times.

/// Ticks per second.
pub(crate) const TICKS_PER_SECOND: i64 = 90_000;

/// Converts ticks to milliseconds, rounded down; negative ticks to zero.
pub(crate) fn to_millis(ticks: i64) -> u64 {
    u64::try_from(ticks / (TICKS_PER_SECOND / 1_000)).unwrap_or_default()
}

/// Converts ticks to seconds; negative ticks to zero. Spans of more than 13 hours are cut.
pub(crate) fn to_seconds(ticks: i64) -> f64 {
    let ticks = u32::try_from(ticks.max(0)).unwrap_or(u32::MAX);
    f64::from(ticks) / 90_000.0
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, 0, 0.0)]
    #[case(-90_000, 0, 0.0)]
    #[case(90_000, 1_000, 1.0)]
    #[case(3_600, 40, 0.04)]
    #[case(89, 0, 89.0 / 90_000.0)]
    fn ticks_are_converted(#[case] ticks: i64, #[case] millis: u64, #[case] seconds: f64) {
        assert_eq!(to_millis(ticks), millis);
        assert!((to_seconds(ticks) - seconds).abs() < 1e-9);
    }
}
