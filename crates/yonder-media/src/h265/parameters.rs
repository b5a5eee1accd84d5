//! Parameter sets in use, from the session description or in-band.

use bytes::Bytes;

use crate::bits::BitReader;
use crate::nal::unescape;

use super::nal::{NalKind, kind_of};
use super::pps::Pps;
use super::sps::{Sps, SpsError};
use super::vps::Vps;

/// Maximum number of picture parameter sets, as in the standard; cameras use one or two.
const MAX_PPS: usize = 64;

/// Configuration of an H.265 track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Config {
    /// Active sequence parameter set; its frame rate may be that of the video parameter set.
    pub facts: Sps,
    /// Video parameter sets as NAL units.
    pub vps: Vec<Bytes>,
    /// Sequence parameter sets as NAL units.
    pub sps: Vec<Bytes>,
    /// Picture parameter sets as NAL units.
    pub pps: Vec<Bytes>,
}

/// Parameter sets of one track by their IDs, and the resulting configuration.
#[derive(Debug, Clone, Default)]
pub struct ParameterSets {
    vps: Option<Bytes>,
    /// Sorted by ID.
    sps: Vec<(Bytes, Sps)>,
    pps: Vec<(Bytes, Pps)>,
    /// ID of the active sequence parameter set.
    active: u32,
    problem: Option<SpsError>,
}

impl ParameterSets {
    /// Handles a NAL unit: stores parameter sets; a slice activates the sequence parameter set that it refers to (7.4.2.4.2).
    /// Returns true if the configuration has changed.
    ///
    /// A set that cannot be parsed is ignored, and [`Self::problem`] returns the reason.
    pub fn take(&mut self, nal: &Bytes) -> bool {
        match kind_of(nal) {
            NalKind::Vps if self.vps.as_ref() != Some(nal) => {
                self.vps = Some(Bytes::copy_from_slice(nal));
                true
            }
            NalKind::Sps => self.take_sps(nal),
            NalKind::Pps => self.take_pps(nal),
            kind if kind.is_picture() && self.sps.len() > 1 => self.activate(nal, kind),
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
        self.pps.retain(|(_, set)| set.sps_id != facts.id);
        self.sps.retain(|(_, known)| known.id != facts.id);
        let at = self.sps.partition_point(|(_, known)| known.id < facts.id);
        self.sps.insert(at, (Bytes::copy_from_slice(nal), facts));
        if self.sps.len() == 1 {
            self.active = facts.id;
        }
        true
    }

    fn take_pps(&mut self, nal: &Bytes) -> bool {
        if self.pps.iter().any(|(known, _)| known == nal) {
            return false;
        }
        let Ok(facts) = Pps::parse(nal) else { return false };
        self.pps.retain(|(_, set)| set.id != facts.id);
        if self.pps.len() == MAX_PPS {
            self.pps.remove(0);
        }
        self.pps.push((Bytes::copy_from_slice(nal), facts));
        true
    }

    fn activate(&mut self, slice: &[u8], kind: NalKind) -> bool {
        let Some(pps_id) = slice_pps_id(slice, kind) else { return false };
        let Some((_, set)) = self.pps.iter().find(|(_, set)| set.id == pps_id) else { return false };
        std::mem::replace(&mut self.active, set.sps_id) != set.sps_id
    }

    /// Returns the configuration, once the video parameter set, the active sequence parameter set and a picture
    /// parameter set for it are known.
    #[must_use]
    pub fn config(&self) -> Option<Config> {
        let vps = self.vps.as_ref()?;
        let mut facts = *self.sps.iter().map(|(_, facts)| facts).find(|facts| facts.id == self.active)?;
        if !self.pps.iter().any(|(_, set)| set.sps_id == self.active) {
            return None;
        }
        facts.frame_rate = facts.frame_rate.or_else(|| Vps::parse(vps).ok()?.frame_rate);
        Some(Config {
            facts,
            vps: vec![vps.clone()],
            sps: self.sps.iter().map(|(nal, _)| nal.clone()).collect(),
            pps: self.pps.iter().map(|(nal, _)| nal.clone()).collect(),
        })
    }
}

/// Returns `slice_pic_parameter_set_id` of a slice segment (7.3.6.1).
fn slice_pps_id(nal: &[u8], kind: NalKind) -> Option<u32> {
    let raw = unescape(nal, super::HEADER, 16);
    let mut bits = BitReader::new(&raw);
    bits.skip(1).ok()?; // first_slice_segment_in_pic_flag
    if kind.is_random_access() {
        bits.skip(1).ok()?; // no_output_of_prior_pics_flag
    }
    bits.ue().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h265::sps::tests::{SAMPLE_MAIN_1080P, SAMPLE_PPS, SAMPLE_VPS};

    #[test]
    fn a_configuration_needs_all_three_kinds_of_set() {
        let mut sets = ParameterSets::default();
        for nal in [SAMPLE_VPS, SAMPLE_MAIN_1080P] {
            assert!(sets.take(&Bytes::from_static(nal)));
            assert_eq!(sets.config(), None);
        }
        assert!(sets.take(&Bytes::from_static(SAMPLE_PPS)));
        let config = sets.config().unwrap();
        assert_eq!((config.facts.width, config.pps.len()), (1920, 1));
        assert!(!sets.take(&Bytes::from_static(SAMPLE_PPS)), "repeated sets change nothing");
    }

    #[test]
    fn a_new_sequence_set_waits_for_its_picture_sets() {
        let mut sets = ParameterSets::default();
        for nal in [SAMPLE_VPS, SAMPLE_MAIN_1080P, SAMPLE_PPS] {
            sets.take(&Bytes::from_static(nal));
        }
        let mut other = SAMPLE_MAIN_1080P.to_vec();
        other[19 - 2] ^= 0x08;
        sets.take(&Bytes::from(other));
        assert_eq!(sets.config(), None);
    }
}
