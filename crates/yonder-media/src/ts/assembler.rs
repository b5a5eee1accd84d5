//! Assembly of sections (2.4.4.1): a section may begin anywhere in a packet, and continue in others.

use bytes::{Bytes, BytesMut};

use super::packet::PacketView;

/// Maximum size of a section (`section_length` of a program map, 2.4.4.9).
const MAX_SECTION: usize = 1_024;
/// Bytes up to and including `section_length`.
const PREFIX: usize = 3;

/// Sections of one PID.
#[derive(Debug, Default)]
pub(super) struct SectionAssembler {
    data: BytesMut,
    continuity: Option<u8>,
    /// The beginning of the section in `data` was received.
    is_running: bool,
}

impl SectionAssembler {
    /// Handles a packet, and appends complete sections.
    pub(super) fn push(&mut self, view: &PacketView<'_>, sections: &mut Vec<Bytes>) {
        if view.payload.is_empty() {
            return;
        }
        let last = self.continuity.replace(view.continuity);
        if last == Some(view.continuity) {
            return;
        }
        let follows = last.is_none_or(|last| last.wrapping_add(1) & 0x0f == view.continuity);
        self.is_running &= follows;
        let mut payload = view.payload;
        if view.starts {
            let Some((&pointer, rest)) = payload.split_first() else { return };
            let Some((end, begin)) = rest.split_at_checked(usize::from(pointer)) else {
                self.is_running = false;
                return;
            };
            self.append(end, sections);
            self.data.clear();
            self.is_running = true;
            payload = begin;
        }
        self.append(payload, sections);
    }

    fn append(&mut self, payload: &[u8], sections: &mut Vec<Bytes>) {
        if !self.is_running {
            return;
        }
        self.data.extend_from_slice(payload);
        while let Some(&[table, high, low]) = self.data.first_chunk::<PREFIX>() {
            let length = PREFIX + usize::from(u16::from_be_bytes([high & 0x0f, low]));
            // Stuffing up to the end of the packet.
            if table == 0xff || length > MAX_SECTION {
                self.data.clear();
                self.is_running = false;
                return;
            }
            if self.data.len() < length {
                return;
            }
            sections.push(self.data.split_to(length).freeze());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn view(starts: bool, continuity: u8, payload: &[u8]) -> PacketView<'_> {
        PacketView {
            pid: 0,
            starts,
            continuity,
            random_access: false,
            discontinuity: false,
            pcr: None,
            payload,
        }
    }

    fn section(length: u8) -> Vec<u8> {
        [&[2, 0xb0, length][..], &vec![length; usize::from(length)]].concat()
    }

    #[test]
    fn sections_may_continue_and_follow_each_other_in_packets() {
        let (first, second) = (section(200), section(20));
        let mut out = Vec::new();
        let mut assembler = SectionAssembler::default();
        assembler.push(&view(true, 4, &[&[0][..], &first[..100]].concat()), &mut out);
        assert_eq!(out, [] as [Bytes; 0]);
        let rest = [&[103][..], &first[100..], &second, &[0xff; 40]].concat();
        assembler.push(&view(true, 5, &rest), &mut out);
        assert_eq!(out, [first, second]);
    }

    #[test]
    fn section_with_a_missing_packet_is_dropped() {
        let section = section(200);
        let mut out = Vec::new();
        let mut assembler = SectionAssembler::default();
        assembler.push(&view(true, 4, &[&[0][..], &section[..100]].concat()), &mut out);
        assembler.push(&view(false, 6, &section[100..]), &mut out);
        assert_eq!(out, [] as [Bytes; 0]);
        assembler.push(&view(true, 7, &[&[0][..], &section].concat()), &mut out);
        assert_eq!(out, [section]);
    }

    proptest! {
        #[test]
        fn any_packets_are_bounded(packets in prop::collection::vec((any::<bool>(), 0_u8..16, prop::collection::vec(any::<u8>(), 0..184)), 0..20)) {
            let (mut assembler, mut out) = (SectionAssembler::default(), Vec::new());
            for (starts, continuity, payload) in &packets {
                assembler.push(&view(*starts, *continuity, payload), &mut out);
                prop_assert!(assembler.data.len() <= MAX_SECTION + 184);
            }
        }
    }
}
