//! Profile, tier and level (ITU-T H.265, 7.3.3).

use crate::bits::{BitReader, BitsError};
use crate::range::byte;

/// Tier: maximum bit rate of a level (A.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tier {
    /// Main tier.
    Main,
    /// High tier.
    High,
}

/// General profile, tier and level of a stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProfileTierLevel {
    /// `general_profile_space`; values other than 0 are reserved.
    pub space: u8,
    /// `general_tier_flag`.
    pub tier: Tier,
    /// `general_profile_idc`.
    pub profile: u8,
    /// `general_profile_compatibility_flag`s, the first one in the most significant bit.
    pub compatibility: u32,
    /// The 48 bits from `general_progressive_source_flag` to `general_inbld_flag`.
    pub constraints: [u8; 6],
    /// `general_level_idc`: thirty times the level.
    pub level: u8,
}

impl ProfileTierLevel {
    /// Parses `profile_tier_level( 1, sub_layers - 1 )` and skips the sub-layers.
    pub(super) fn read(r: &mut BitReader<'_>, max_sub_layers_minus1: u32) -> Result<Self, BitsError> {
        let space = byte(r.bits(2)?);
        let tier = if r.bit()? { Tier::High } else { Tier::Main };
        let profile = byte(r.bits(5)?);
        let compatibility = r.bits(32)?;
        let mut constraints = [0; 6];
        for constraint in &mut constraints {
            *constraint = byte(r.bits(8)?);
        }
        let level = byte(r.bits(8)?);
        skip_sub_layers(r, max_sub_layers_minus1)?;
        Ok(Self { space, tier, profile, compatibility, constraints, level })
    }

    /// Returns the usual name of the profile (A.3), from a compatibility flag if the profile itself is not set.
    #[must_use]
    pub fn profile_name(&self) -> &'static str {
        let compatible = |profile: u32| self.compatibility >> (31 - profile) & 1 == 1;
        match self.profile {
            _ if self.space != 0 => "unknown profile",
            1 => "Main",
            2 => "Main 10",
            3 => "Main Still Picture",
            4 => "Range Extensions",
            5 => "High Throughput",
            9 => "Screen Content",
            0 if compatible(1) => "Main",
            0 if compatible(2) => "Main 10",
            _ => "unknown profile",
        }
    }

    /// Returns the level as usually written, such as 4.1.
    #[must_use]
    pub fn level_number(&self) -> f64 {
        f64::from(self.level) / 30.0
    }
}

fn skip_sub_layers(r: &mut BitReader<'_>, count: u32) -> Result<(), BitsError> {
    let mut present = Vec::new();
    for _ in 0..count {
        present.push((r.bit()?, r.bit()?));
    }
    if count > 0 {
        r.skip(2 * (8 - count))?;
    }
    for (profile, level) in present {
        r.skip(if profile { 88 } else { 0 } + if level { 8 } else { 0 })?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn ptl(profile: u8, compatibility: u32) -> ProfileTierLevel {
        ProfileTierLevel {
            space: 0,
            tier: Tier::Main,
            profile,
            compatibility,
            constraints: [0; 6],
            level: 123,
        }
    }

    #[rstest]
    #[case(1, 0, "Main")]
    #[case(2, 0, "Main 10")]
    #[case(0, 0x4000_0000, "Main")]
    #[case(0, 0x2000_0000, "Main 10")]
    #[case(30, 0, "unknown profile")]
    fn profiles_have_names(#[case] profile: u8, #[case] compatibility: u32, #[case] name: &str) {
        assert_eq!(ptl(profile, compatibility).profile_name(), name);
    }

    #[test]
    fn levels_are_thirtieths() {
        assert!((ptl(1, 0).level_number() - 4.1).abs() < 1e-9);
    }

    #[test]
    fn sub_layers_are_passed_over() {
        // 12 bytes of general fields, then one sub-layer with both profile and level: 2 + 14 flag bits, 88 + 8.
        let mut data = vec![0x01; 12];
        data.extend_from_slice(&[0xc0, 0]);
        data.extend_from_slice(&[0xff; 12]);
        let mut r = BitReader::new(&data);
        ProfileTierLevel::read(&mut r, 1).unwrap();
        assert_eq!(r.position(), data.len() * 8);
    }
}
