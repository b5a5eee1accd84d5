//! Keeps the parameter sets that are in force, whether they came in the session description or in-band.

use bytes::Bytes;

use super::nal::{NalKind, kind_of};
use super::pps::Pps;
use super::sps::Sps;
use super::vps::Vps;

/// Picture parameter sets kept at most; cameras use one or two, the standard allows 64.
const MAX_PPS: usize = 64;

/// The description of an H.265 track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Config {
    /// The facts of the active sequence parameter set; the frame rate may be the video parameter set's.
    pub facts: Sps,
    /// Video parameter sets as NAL units.
    pub vps: Vec<Bytes>,
    /// Sequence parameter sets as NAL units.
    pub sps: Vec<Bytes>,
    /// Picture parameter sets as NAL units.
    pub pps: Vec<Bytes>,
}

/// The parameter sets of one track and the configuration they amount to.
#[derive(Debug, Clone, Default)]
pub struct ParameterSets {
    vps: Option<Bytes>,
    sps: Option<(Bytes, Sps)>,
    pps: Vec<(u32, Bytes)>,
}

impl ParameterSets {
    /// Takes a NAL unit if it is a parameter set. Returns true when it changed what is in force.
    ///
    /// A set that cannot be read is left aside: the one in force stays.
    pub fn take(&mut self, nal: &Bytes) -> bool {
        match kind_of(nal) {
            NalKind::Vps if self.vps.as_ref() != Some(nal) => {
                self.vps = Some(Bytes::copy_from_slice(nal));
                true
            }
            NalKind::Sps => self.take_sps(nal),
            NalKind::Pps => self.take_pps(nal),
            _ => false,
        }
    }

    fn take_sps(&mut self, nal: &Bytes) -> bool {
        if self.sps.as_ref().is_some_and(|(known, _)| known == nal) {
            return false;
        }
        let Ok(facts) = Sps::parse(nal) else { return false };
        // Picture sets refer to the old sequence set; the camera sends fresh ones behind the new.
        if self.sps.is_some() {
            self.pps.clear();
        }
        self.sps = Some((Bytes::copy_from_slice(nal), facts));
        true
    }

    fn take_pps(&mut self, nal: &Bytes) -> bool {
        if self.pps.iter().any(|(_, known)| known == nal) {
            return false;
        }
        let Ok(facts) = Pps::parse(nal) else { return false };
        self.pps.retain(|(id, _)| *id != facts.id);
        if self.pps.len() == MAX_PPS {
            self.pps.remove(0);
        }
        self.pps.push((facts.id, Bytes::copy_from_slice(nal)));
        true
    }

    /// The configuration, once all three kinds of set are known.
    #[must_use]
    pub fn config(&self) -> Option<Config> {
        let (sps, facts) = self.sps.as_ref()?;
        let vps = self.vps.as_ref()?;
        if self.pps.is_empty() {
            return None;
        }
        let mut facts = *facts;
        facts.frame_rate = facts.frame_rate.or_else(|| Vps::parse(vps).ok()?.frame_rate);
        Some(Config {
            facts,
            vps: vec![vps.clone()],
            sps: vec![sps.clone()],
            pps: self.pps.iter().map(|(_, nal)| nal.clone()).collect(),
        })
    }
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
