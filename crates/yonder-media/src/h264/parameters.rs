//! Keeps the parameter sets that are in force, whether they came in the session description or in-band.

use bytes::Bytes;

use super::nal::{NalKind, kind_of};
use super::sps::Sps;

/// Picture parameter sets kept at most; cameras use one or two, the standard allows 256.
const MAX_PPS: usize = 32;

/// The description of an H.264 track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Config {
    /// The facts of the active sequence parameter set.
    pub facts: Sps,
    /// Sequence parameter sets as NAL units.
    pub sps: Vec<Bytes>,
    /// Picture parameter sets as NAL units.
    pub pps: Vec<Bytes>,
}

/// The parameter sets of one track and the configuration they amount to.
#[derive(Debug, Clone, Default)]
pub struct ParameterSets {
    sps: Option<(Bytes, Sps)>,
    pps: Vec<Bytes>,
}

impl ParameterSets {
    /// Takes a NAL unit if it is a parameter set. Returns true when it changed what is in force.
    ///
    /// A sequence parameter set that cannot be read is left aside: the one in force stays.
    pub fn take(&mut self, nal: &Bytes) -> bool {
        match kind_of(nal) {
            NalKind::Sps => {
                if self.sps.as_ref().is_some_and(|(known, _)| known == nal) {
                    return false;
                }
                let Ok(facts) = Sps::parse(nal) else { return false };
                // Picture sets refer to the old sequence set; the camera sends fresh ones behind the new.
                if self.sps.is_some() {
                    self.pps.clear();
                }
                self.sps = Some((detached(nal), facts));
                true
            }
            NalKind::Pps => {
                if self.pps.contains(nal) {
                    return false;
                }
                let id = pps_id(nal);
                self.pps.retain(|known| pps_id(known) != id);
                if self.pps.len() == MAX_PPS {
                    self.pps.remove(0);
                }
                self.pps.push(detached(nal));
                true
            }
            _ => false,
        }
    }

    /// The configuration, once both kinds of set are known.
    #[must_use]
    pub fn config(&self) -> Option<Config> {
        let (sps, facts) = self.sps.as_ref()?;
        if self.pps.is_empty() {
            return None;
        }
        Some(Config { facts: *facts, sps: vec![sps.clone()], pps: self.pps.clone() })
    }
}

/// A parameter set lives for hours; it must not pin the receive buffer it came in.
fn detached(nal: &Bytes) -> Bytes {
    Bytes::copy_from_slice(nal)
}

fn pps_id(nal: &[u8]) -> Option<u32> {
    crate::bits::BitReader::new(nal.get(1..)?).ue().ok()
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
}
