//! Rates and volumes with their units. Input needs a unit, because kilobits and kilobytes are easily confused; output shows
//! both where that helps.

use std::fmt;
use std::str::FromStr;

/// Bit rate in bits per second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BitRate(u64);

/// Volume in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Volume(u64);

/// Error for a rate or volume that cannot be parsed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum UnitError {
    /// A number is missing.
    #[error("{0:?} does not begin with a number")]
    Number(String),
    /// A unit of a rate is missing.
    #[error("{0:?} needs a unit: kilobits and kilobytes differ by eight; write {0}kbit/s or {0}kB/s")]
    NoUnit(String),
    /// A unit of a volume is missing.
    #[error("{0:?} needs a unit, like {0}GB")]
    NoVolumeUnit(String),
    /// Unknown unit of a rate.
    #[error("the unit {0:?} is not known; write kbit/s, Mbit/s, kB/s or MB/s")]
    Unit(String),
    /// Unknown unit of a volume.
    #[error("the unit {0:?} is not known; write MB, GB or TB, or MiB, GiB or TiB")]
    VolumeUnit(String),
    /// A volume in bits.
    #[error("the unit {0:?} counts bits; an allowance is counted in bytes, with a large B")]
    Bits(String),
    /// Out of range.
    #[error("{0:?} is out of range")]
    Range(String),
}

/// Splits a text like `1.5 Mbit/s` into number and unit.
fn split(text: &str) -> Result<(f64, &str), UnitError> {
    let text = text.trim();
    let end = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
    let (number, unit) = text.split_at_checked(end).unwrap_or((text, ""));
    let number = number.parse().map_err(|_| UnitError::Number(text.to_owned()))?;
    Ok((number, unit.trim()))
}

/// Rounds to an integer, if it is in range.
fn whole(number: f64, text: &str) -> Result<u64, UnitError> {
    // 10^18: a petabit per second or an exabyte, beyond every real value.
    if !(0.0..=1e18).contains(&number) {
        return Err(UnitError::Range(text.to_owned()));
    }
    // Rounded and in range, so the conversion through text is exact.
    format!("{:.0}", number.round()).parse().map_err(|_| UnitError::Range(text.to_owned()))
}

impl BitRate {
    /// Creates a rate from kilobits (1000 bits) per second.
    #[must_use]
    pub fn from_kbps(kbps: u64) -> Self {
        Self(kbps.saturating_mul(1_000))
    }

    /// Returns kilobits per second, rounded down.
    #[must_use]
    pub fn kbps(self) -> u64 {
        self.0 / 1_000
    }

    /// Formats the rate so that it parses to the same value.
    #[must_use]
    pub fn written(self) -> String {
        written(self.0, &[(1_000_000_000, "Gbit/s"), (1_000_000, "Mbit/s"), (1_000, "kbit/s")], "bit/s")
    }
}

impl FromStr for BitRate {
    type Err = UnitError;

    /// Parses a rate. `b` means bits and `B` bytes, whatever the prefix.
    fn from_str(text: &str) -> Result<Self, UnitError> {
        let (number, unit) = split(text)?;
        let bare = unit.strip_suffix("/s").or_else(|| unit.strip_suffix("ps")).unwrap_or(unit);
        let unknown = || UnitError::Unit(unit.to_owned());
        let (prefix, bits) = if let Some(prefix) = bare.strip_suffix("bit").or_else(|| bare.strip_suffix('b'))
        {
            (prefix, 1.0)
        } else if let Some(prefix) = bare.strip_suffix("Byte").or_else(|| bare.strip_suffix('B')) {
            (prefix, 8.0)
        } else if unit.is_empty() {
            return Err(UnitError::NoUnit(text.trim().to_owned()));
        } else {
            return Err(unknown());
        };
        let factor = match prefix {
            "" => 1.0,
            "k" | "K" => 1e3,
            "M" | "m" => 1e6,
            "G" | "g" => 1e9,
            _ => return Err(unknown()),
        };
        whole(number * factor * bits, text).map(Self)
    }
}

impl fmt::Display for BitRate {
    /// Formats the rate in bits and in bytes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (bits, bytes) = (self.0, self.0 / 8);
        if bits >= 1_000_000 {
            write!(f, "{} Mbit/s ({} kB/s)", tenths(bits, 1_000_000), bytes / 1_000)
        } else {
            write!(f, "{} kbit/s ({} kB/s)", bits / 1_000, bytes / 1_000)
        }
    }
}

impl Volume {
    /// Creates a volume from bytes.
    #[must_use]
    pub fn from_bytes(bytes: u64) -> Self {
        Self(bytes)
    }

    /// Returns the bytes.
    #[must_use]
    pub fn bytes(self) -> u64 {
        self.0
    }

    /// Formats the volume so that it parses to the same value.
    #[must_use]
    pub fn written(self) -> String {
        let units = [(1_000_000_000_000, "TB"), (1_000_000_000, "GB"), (1_000_000, "MB"), (1_000, "kB")];
        written(self.0, &units, "B")
    }
}

impl FromStr for Volume {
    type Err = UnitError;

    fn from_str(text: &str) -> Result<Self, UnitError> {
        let (number, unit) = split(text)?;
        let factor = match unit {
            "" => return Err(UnitError::NoVolumeUnit(text.trim().to_owned())),
            "B" => 1.0,
            "kB" | "KB" => 1e3,
            "MB" => 1e6,
            "GB" => 1e9,
            "TB" => 1e12,
            "MiB" => 1_048_576.0,
            "GiB" => 1_073_741_824.0,
            "TiB" => 1_099_511_627_776.0,
            "kb" | "Kb" | "Mb" | "Gb" | "Tb" | "Mbit" | "Gbit" | "Tbit" => {
                return Err(UnitError::Bits(unit.to_owned()));
            }
            _ => return Err(UnitError::VolumeUnit(unit.to_owned())),
        };
        whole(number * factor, text).map(Self)
    }
}

impl fmt::Display for Volume {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            bytes @ 1_000_000_000_000.. => write!(f, "{} TB", tenths(bytes, 1_000_000_000_000)),
            bytes @ 1_000_000_000.. => write!(f, "{} GB", tenths(bytes, 1_000_000_000)),
            bytes => write!(f, "{} MB", tenths(bytes, 1_000_000)),
        }
    }
}

/// Formats a value in the largest unit that divides it.
fn written(value: u64, units: &[(u64, &str)], least: &str) -> String {
    let whole = units.iter().find(|(unit, _)| value >= *unit && value.is_multiple_of(*unit));
    whole.map_or_else(|| format!("{value}{least}"), |(unit, word)| format!("{}{word}", value / unit))
}

/// Formats a quotient with one decimal.
fn tenths(value: u64, unit: u64) -> String {
    let tenths = (value.saturating_mul(10) + unit / 2) / unit;
    format!("{}.{}", tenths / 10, tenths % 10)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("6Mbit/s", 6_000)]
    #[case("6 Mbps", 6_000)]
    #[case("6mbps", 6_000)]
    #[case("1.5 Mbit/s", 1_500)]
    #[case("750kB/s", 6_000)]
    #[case("750 KBps", 6_000)]
    #[case("1MB/s", 8_000)]
    #[case("4500 kbit/s", 4_500)]
    #[case("4500kb/s", 4_500)]
    #[case("1Gbit/s", 1_000_000)]
    fn b_means_bits_and_capital_b_bytes(#[case] text: &str, #[case] kbps: u64) {
        assert_eq!(text.parse::<BitRate>().map(BitRate::kbps), Ok(kbps));
    }

    #[rstest]
    #[case("6000", "needs a unit")]
    #[case("fast", "does not begin with a number")]
    #[case("6 parsec", "is not known")]
    #[case("6 M", "is not known")]
    #[case("9999999999999Gbit/s", "out of range")]
    fn rates_without_a_clear_unit_are_refused(#[case] text: &str, #[case] says: &str) {
        let error = text.parse::<BitRate>().unwrap_err().to_string();
        assert!(error.contains(says), "{error}");
    }

    #[rstest]
    #[case("500GB", Ok(500_000_000_000))]
    #[case("1.5 TB", Ok(1_500_000_000_000))]
    #[case("1GiB", Ok(1_073_741_824))]
    #[case("500Gb", Err(UnitError::Bits("Gb".into())))]
    #[case("500", Err(UnitError::NoVolumeUnit("500".into())))]
    #[case("500 pages", Err(UnitError::VolumeUnit("pages".into())))]
    fn volumes_are_counted_in_bytes(#[case] text: &str, #[case] read: Result<u64, UnitError>) {
        assert_eq!(text.parse::<Volume>().map(Volume::bytes), read);
    }

    #[test]
    fn both_units_are_shown() {
        assert_eq!(BitRate::from_kbps(6_000).to_string(), "6.0 Mbit/s (750 kB/s)");
        assert_eq!(BitRate::from_kbps(640).to_string(), "640 kbit/s (80 kB/s)");
        assert_eq!(Volume::from_bytes(1_234_000_000).to_string(), "1.2 GB");
        assert_eq!(Volume::from_bytes(2_500_000_000_000).to_string(), "2.5 TB");
        assert_eq!(Volume::from_bytes(12_340_000).to_string(), "12.3 MB");
    }

    #[rstest]
    #[case(BitRate::from_kbps(40_000).written(), "40Mbit/s")]
    #[case(BitRate::from_kbps(1_500).written(), "1500kbit/s")]
    #[case(Volume::from_bytes(6_000_000_000_000).written(), "6TB")]
    #[case(Volume::from_bytes(1_073_741_824).written(), "1073741824B")]
    fn largest_dividing_unit_is_used(#[case] written: String, #[case] expected: &str) {
        assert_eq!(written, expected);
    }

    proptest! {
        #[test]
        fn serialized_form_parses_to_the_same_value(kbps in 1_u64..1_000_000_000, bytes in 1_u64..1_000_000_000_000_000) {
            let (rate, volume) = (BitRate::from_kbps(kbps), Volume::from_bytes(bytes));
            prop_assert_eq!(rate.written().parse::<BitRate>(), Ok(rate));
            prop_assert_eq!(volume.written().parse::<Volume>(), Ok(volume));
        }
    }
}
