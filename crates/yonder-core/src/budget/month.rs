//! Monthly traffic against its allowance.

use super::units::Volume;

/// Elapsed part of a month.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Month {
    /// Seconds since the beginning of the month.
    pub elapsed_s: u64,
    /// Length of the month in seconds.
    pub total_s: u64,
}

/// Traffic of one uplink in one month.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Traffic {
    /// Volume so far.
    pub so_far: Volume,
    /// Projected volume at the end of the month.
    pub projected: Volume,
    /// Monthly allowance.
    pub allowance: Option<Volume>,
}

impl Traffic {
    /// Projects the month's traffic: the volume so far, and `kbps` for `hours` of each remaining day.
    #[must_use]
    pub fn project(so_far: Volume, allowance: Option<Volume>, kbps: u64, hours: f64, month: Month) -> Self {
        let left = month.total_s.saturating_sub(month.elapsed_s);
        // Hundredths of an hour are exact enough and keep the arithmetic in integers.
        let hundredths =
            (0_u64..=2_400).find(|part| f64::from(u32::try_from(*part).unwrap_or(2_400)) >= hours * 100.0);
        let active = left.saturating_mul(hundredths.unwrap_or(2_400)) / 2_400;
        let more = kbps.saturating_mul(125).saturating_mul(active);
        Self { so_far, projected: Volume::from_bytes(so_far.bytes().saturating_add(more)), allowance }
    }

    /// Returns the projection in percent of the allowance; `None` without an allowance.
    #[must_use]
    pub fn percent(&self) -> Option<u64> {
        let allowance = self.allowance?.bytes().max(1);
        Some(self.projected.bytes().saturating_mul(100) / allowance)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HALF: Month = Month { elapsed_s: 15 * 86_400, total_s: 30 * 86_400 };

    #[test]
    fn projection_adds_the_remaining_days() {
        let so_far = Volume::from_bytes(500_000_000_000);
        let traffic =
            Traffic::project(so_far, Some(Volume::from_bytes(1_500_000_000_000)), 4_000, 24.0, HALF);
        // 4 Mbit/s are 500 kB/s; fifteen days are 1 296 000 s.
        assert_eq!(traffic.projected.bytes(), 500_000_000_000 + 648_000_000_000);
        assert_eq!(traffic.percent(), Some(76));
    }

    #[test]
    fn eight_hours_a_day_project_a_third() {
        let traffic = Traffic::project(Volume::from_bytes(0), None, 4_000, 8.0, HALF);
        assert_eq!((traffic.projected.bytes(), traffic.percent()), (216_000_000_000, None));
    }
}
