//! Parameter sets in use, from the session description or in-band.

use bytes::Bytes;

use crate::bits::BitReader;
use crate::nal::unescape;

use super::nal::{NalKind, kind_of};
use super::sps::{Sps, SpsError};

/// Maximum number of picture parameter sets; cameras use one or two, the standard allows 256.
const MAX_PPS: usize = 32;

/// Configuration of an H.264 track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Config {
    /// Active sequence parameter set.
    pub facts: Sps,
    /// Sequence parameter sets as NAL units.
    pub sps: Vec<Bytes>,
    /// Picture parameter sets as NAL units.
    pub pps: Vec<Bytes>,
}

/// Parameter sets of one track by their IDs, and the resulting configuration.
#[derive(Debug, Clone, Default)]
pub struct ParameterSets {
    /// Sorted by ID.
    sps: Vec<(Bytes, Sps)>,
    pps: Vec<PictureSet>,
    /// ID of the active sequence parameter set.
    active: u32,
    problem: Option<SpsError>,
}

/// A picture parameter set.
#[derive(Debug, Clone)]
struct PictureSet {
    id: u32,
    sps_id: u32,
    nal: Bytes,
}

impl ParameterSets {
    /// Handles a NAL unit: stores parameter sets; a slice activates the sequence parameter set that it refers to (7.4.1.2.1).
    /// Returns true if the configuration has changed.
    ///
    /// A sequence parameter set that cannot be parsed is ignored, and [`Self::problem`] returns the reason.
    pub fn take(&mut self, nal: &Bytes) -> bool {
        match kind_of(nal) {
            NalKind::Sps => self.take_sps(nal),
            NalKind::Pps => self.take_pps(nal),
            NalKind::Slice | NalKind::IdrSlice if self.sps.len() > 1 => self.activate(nal),
            _ => false,
        }
    }

    /// Returns the error of the last sequence parameter set, if it could not be parsed.
    #[must_use]
    pub fn problem(&self) -> Option<SpsError> {
        self.problem
    }

    fn take_sps(&mut self, nal: &Bytes) -> bool {
        if self.sps.iter().any(|(known, _)| known == nal) {
            self.problem = None;
            return false;
        }
        let facts = match Sps::parse(nal) {
            Ok(facts) => facts,
            Err(problem) => {
                self.problem = Some(problem);
                return false;
            }
        };
        self.problem = None;
        // Picture parameter sets that refer to the replaced set are sent again after the new one.
        self.pps.retain(|set| set.sps_id != facts.id);
        self.sps.retain(|(_, known)| known.id != facts.id);
        let at = self.sps.partition_point(|(_, known)| known.id < facts.id);
        self.sps.insert(at, (detached(nal), facts));
        if self.sps.len() == 1 {
            self.active = facts.id;
        }
        true
    }

    fn take_pps(&mut self, nal: &Bytes) -> bool {
        if self.pps.iter().any(|set| set.nal == nal) {
            return false;
        }
        let Some((id, sps_id)) = pps_ids(nal) else { return false };
        self.pps.retain(|set| set.id != id);
        if self.pps.len() == MAX_PPS {
            self.pps.remove(0);
        }
        self.pps.push(PictureSet { id, sps_id, nal: detached(nal) });
        true
    }

    fn activate(&mut self, slice: &[u8]) -> bool {
        let Some(pps_id) = slice_pps_id(slice) else { return false };
        let Some(set) = self.pps.iter().find(|set| set.id == pps_id) else { return false };
        std::mem::replace(&mut self.active, set.sps_id) != set.sps_id
    }

    /// Returns the configuration, once the active sequence parameter set and a picture parameter set for it are known.
    #[must_use]
    pub fn config(&self) -> Option<Config> {
        let facts = self.sps.iter().map(|(_, facts)| facts).find(|facts| facts.id == self.active)?;
        if !self.pps.iter().any(|set| set.sps_id == self.active) {
            return None;
        }
        Some(Config {
            facts: *facts,
            sps: self.sps.iter().map(|(nal, _)| nal.clone()).collect(),
            pps: self.pps.iter().map(|set| set.nal.clone()).collect(),
        })
    }
}

/// Copies a parameter set, which would otherwise keep its receive buffer alive for hours.
fn detached(nal: &Bytes) -> Bytes {
    Bytes::copy_from_slice(nal)
}

/// Returns `pic_parameter_set_id` and `seq_parameter_set_id` of a picture parameter set (7.3.2.2).
fn pps_ids(nal: &[u8]) -> Option<(u32, u32)> {
    let raw = unescape(nal, super::HEADER, 16);
    let mut bits = BitReader::new(&raw);
    Some((bits.ue().ok()?, bits.ue().ok()?))
}

/// Returns `pic_parameter_set_id` of a slice (7.3.3).
fn slice_pps_id(nal: &[u8]) -> Option<u32> {
    let raw = unescape(nal, super::HEADER, 16);
    let mut bits = BitReader::new(&raw);
    bits.ue().ok()?; // first_mb_in_slice
    bits.ue().ok()?; // slice_type
    bits.ue().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h264::sps::tests::{SAMPLE_BASELINE_VGA, SAMPLE_HIGH_1080P};

    const PPS_0: Bytes = Bytes::from_static(&[0x68, 0xce, 0x3c, 0x80]);
    const PPS_0_OTHER: Bytes = Bytes::from_static(&[0x68, 0xee, 0x3c, 0x80]);

    #[test]
    fn a_configuration_needs_both_kinds_of_set() {
        let mut sets = ParameterSets::default();
        assert!(sets.take(&Bytes::from_static(SAMPLE_BASELINE_VGA)));
        assert!(sets.config().is_none());
        assert!(sets.take(&PPS_0));
        assert_eq!(sets.config().map(|c| (c.facts.width, c.facts.height)), Some((640, 480)));
    }

    #[test]
    fn repeated_sets_change_nothing_and_a_new_one_replaces_its_id() {
        let mut sets = ParameterSets::default();
        sets.take(&Bytes::from_static(SAMPLE_BASELINE_VGA));
        sets.take(&PPS_0);
        assert!(!sets.take(&Bytes::from_static(SAMPLE_BASELINE_VGA)));
        assert!(!sets.take(&PPS_0));
        assert!(sets.take(&PPS_0_OTHER));
        assert_eq!(sets.config().map(|c| c.pps), Some(vec![PPS_0_OTHER]));
    }

    #[test]
    fn a_new_sequence_set_waits_for_its_picture_sets() {
        let mut sets = ParameterSets::default();
        sets.take(&Bytes::from_static(SAMPLE_BASELINE_VGA));
        sets.take(&PPS_0);
        assert!(sets.take(&Bytes::from_static(SAMPLE_HIGH_1080P)));
        assert!(sets.config().is_none());
        sets.take(&PPS_0);
        assert_eq!(sets.config().map(|c| c.facts.height), Some(1080));
    }

    #[test]
    fn an_unreadable_sequence_set_leaves_the_old_one_in_force() {
        let mut sets = ParameterSets::default();
        sets.take(&Bytes::from_static(SAMPLE_BASELINE_VGA));
        sets.take(&PPS_0);
        assert!(!sets.take(&Bytes::from_static(&[0x67, 0x42])));
        assert!(sets.config().is_some());
    }

    #[test]
    fn two_sequence_sets_in_use_are_both_in_the_configuration() {
        let mut sets = ParameterSets::default();
        // The same set with `seq_parameter_set_id` 1 (010) instead of 0 (1), and picture parameter sets 0 and 1 for them.
        let other = with_sps_id_1(SAMPLE_BASELINE_VGA);
        let pps_1_of_sps_1 = Bytes::from_static(&[0x68, 0x49, 0x3c, 0x80]);
        for nal in [Bytes::from_static(SAMPLE_HIGH_1080P), PPS_0, other.clone(), pps_1_of_sps_1.clone()] {
            assert!(sets.take(&nal));
        }
        let config = sets.config().unwrap();
        assert_eq!(config.facts.height, 1080);
        assert_eq!(config.sps, [Bytes::from_static(SAMPLE_HIGH_1080P), other.clone()]);
        assert_eq!(config.pps, [PPS_0, pps_1_of_sps_1]);
        // `first_mb_in_slice` 0, `slice_type` 7, `pic_parameter_set_id` 1.
        assert!(sets.take(&Bytes::from_static(&[0x65, 0x88, 0x50])));
        assert_eq!(sets.config().unwrap().facts.height, 480);
        assert!(!sets.take(&other), "repeated sets change nothing");
        assert!(!sets.take(&Bytes::from_static(&[0x65, 0x88, 0x50])));
        let record = sets.config().unwrap().record();
        assert_eq!(record[5], 0xe2, "two sequence parameter sets");
    }

    /// Returns a baseline SPS with ID 1.
    fn with_sps_id_1(sps: &[u8]) -> Bytes {
        let mut bits: Vec<bool> =
            sps[4..].iter().flat_map(|byte| (0..8).rev().map(move |bit| byte >> bit & 1 == 1)).collect();
        assert!(bits[0], "number 0");
        bits.splice(0..1, [false, true, false]);
        bits.resize(bits.len().next_multiple_of(8), false);
        let bytes = bits.chunks(8).map(|bits| bits.iter().fold(0, |byte, bit| byte << 1 | u8::from(*bit)));
        sps[..4].iter().copied().chain(bytes).collect()
    }

    #[test]
    fn reason_of_an_unreadable_sequence_set_is_kept_until_one_is_read() {
        let mut sets = ParameterSets::default();
        assert!(!sets.take(&Bytes::from_static(&[0x67, 0x42])));
        assert!(sets.problem().is_some());
        sets.take(&Bytes::from_static(SAMPLE_BASELINE_VGA));
        assert_eq!(sets.problem(), None);
    }
}
