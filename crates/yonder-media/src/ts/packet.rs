//! Transport packets (2.4.3.2) and their adaptation fields (2.4.3.4).

use bytes::{BufMut, BytesMut};

/// Size of a transport packet, in bytes.
pub const PACKET: usize = 188;
/// Sync byte.
pub(super) const SYNC: u8 = 0x47;
/// Size of the header before adaptation field and payload, in bytes.
pub(super) const HEADER: usize = 4;
/// PCR base and extension count 27 MHz; the base alone counts 90 kHz, in 33 bits.
pub(super) const CLOCK_BITS: u32 = 33;

/// Content of an adaptation field, without stuffing.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Adaptation {
    /// `random_access_indicator`: decoding can start here.
    pub(super) random_access: bool,
    /// `program_clock_reference_base`, in ticks of 90 kHz.
    pub(super) pcr: Option<i64>,
}

impl Adaptation {
    /// Returns the size including the length byte; zero if the field is empty.
    pub(super) fn len(self) -> usize {
        match (self.pcr, self.random_access) {
            (Some(_), _) => 8,
            (None, true) => 2,
            (None, false) => 0,
        }
    }
}

/// Writes header and adaptation field of a packet with `payload` more bytes, stuffed so that the packet is full.
pub(super) fn write_head(
    out: &mut BytesMut,
    pid: u16,
    (starts, continuity): (bool, u8),
    adaptation: Adaptation,
    payload: usize,
) {
    let field = PACKET.saturating_sub(HEADER + payload);
    out.put_u8(SYNC);
    out.put_u16(pid & 0x1fff | u16::from(starts) << 14);
    // adaptation_field_control: 01 payload only, 10 field only, 11 both.
    let control = u8::from(field > 0) << 5 | u8::from(payload > 0) << 4;
    out.put_u8(control | continuity & 0x0f);
    let Some(length) = field.checked_sub(1) else { return };
    out.put_u8(u8::try_from(length).unwrap_or_default());
    let Some(mut stuffing) = length.checked_sub(1) else { return };
    out.put_u8(u8::from(adaptation.random_access) << 6 | u8::from(adaptation.pcr.is_some()) << 4);
    if let Some(ticks) = adaptation.pcr {
        // 33 bits of base, six reserved ones, nine bits of extension (zero).
        let base = u64::try_from(ticks.rem_euclid(1 << CLOCK_BITS)).unwrap_or_default();
        out.put_uint(base << 15 | 0x7e00, 6);
        stuffing = stuffing.saturating_sub(6);
    }
    out.put_bytes(0xff, stuffing);
}

/// Parsed packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct PacketView<'a> {
    pub(super) pid: u16,
    pub(super) starts: bool,
    pub(super) continuity: u8,
    pub(super) random_access: bool,
    pub(super) discontinuity: bool,
    pub(super) pcr: Option<i64>,
    pub(super) payload: &'a [u8],
}

impl<'a> PacketView<'a> {
    /// Parses a packet; `None` for an invalid packet or one with the error indicator.
    pub(super) fn read(packet: &'a [u8]) -> Option<Self> {
        let (&[sync, high, low, control], rest) = packet.split_first_chunk::<HEADER>()?;
        if packet.len() != PACKET || sync != SYNC || high & 0x80 != 0 {
            return None;
        }
        let mut view = Self {
            pid: u16::from_be_bytes([high & 0x1f, low]),
            starts: high & 0x40 != 0,
            continuity: control & 0x0f,
            random_access: false,
            discontinuity: false,
            pcr: None,
            payload: rest,
        };
        if control & 0x20 != 0 {
            let (&length, rest) = rest.split_first()?;
            let (field, rest) = rest.split_at_checked(usize::from(length))?;
            view.payload = rest;
            if let Some((flags, values)) = field.split_first() {
                view.discontinuity = flags & 0x80 != 0;
                view.random_access = flags & 0x40 != 0;
                if flags & 0x10 != 0 {
                    let (base, _) = values.split_first_chunk::<6>()?;
                    let base = base.iter().fold(0_i64, |sum, byte| sum << 8 | i64::from(*byte)) >> 15;
                    view.pcr = Some(base);
                }
            }
        }
        if control & 0x10 == 0 {
            view.payload = &[];
        }
        Some(view)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn written(payload: &[u8], adaptation: Adaptation) -> BytesMut {
        let mut out = BytesMut::new();
        write_head(&mut out, 0x101, (true, 7), adaptation, payload.len());
        out.put_slice(payload);
        out
    }

    proptest! {
        #[test]
        fn packets_survive_the_round_trip(
            length in 0_usize..=176,
            random_access: bool,
            pcr in prop::option::of(0_i64..1 << 33),
        ) {
            let payload = vec![0xa5; length];
            let packet = written(&payload, Adaptation { random_access, pcr });
            prop_assert_eq!(packet.len(), PACKET);
            let view = PacketView::read(&packet).unwrap();
            prop_assert_eq!((view.pid, view.starts, view.continuity), (0x101, true, 7));
            prop_assert_eq!((view.random_access, view.pcr), (random_access, pcr));
            prop_assert_eq!(view.payload, &payload[..]);
        }

        #[test]
        fn any_bytes_are_parsed_or_refused(packet in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = PacketView::read(&packet);
        }
    }

    #[test]
    fn one_byte_too_few_is_stuffed_by_the_length_byte_alone() {
        let packet = written(&[1; 183], Adaptation::default());
        assert_eq!((packet.len(), packet[3] & 0x30, packet[4]), (PACKET, 0x30, 0));
        let full = written(&[1; 184], Adaptation::default());
        assert_eq!((full.len(), full[3] & 0x30), (PACKET, 0x10));
    }

    #[test]
    fn a_clock_reference_wraps_at_33_bits() {
        let packet = written(&[], Adaptation { random_access: false, pcr: Some((1 << 33) + 5) });
        assert_eq!(PacketView::read(&packet).unwrap().pcr, Some(5));
    }
}
