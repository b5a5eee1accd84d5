//! H.264 payloads (RFC 6184): single NAL units, STAP-A and FU-A.

use super::picture::PictureDepacketiser;

/// Takes the NAL units out of a payload (5.2).
pub(super) fn unpack(unit: &mut PictureDepacketiser, payload: &[u8]) {
    let Some((&indicator, rest)) = payload.split_first() else { return };
    match indicator & 0x1f {
        1..=23 => unit.take_nal(payload),
        24 => unpack_aggregate(unit, rest),
        28 => unpack_fragment(unit, payload),
        // STAP-B, MTAPs and FU-B belong to the interleaved mode, which is never set up.
        _ => unit.damaged = true,
    }
}

/// STAP-A (5.7.1): NAL units with 16-bit lengths.
fn unpack_aggregate(unit: &mut PictureDepacketiser, mut payload: &[u8]) {
    while let Some((size, rest)) = payload.split_first_chunk::<2>() {
        let size = usize::from(u16::from_be_bytes(*size));
        let Some((nal, rest)) = rest.split_at_checked(size) else {
            unit.damaged = true;
            return;
        };
        unit.take_nal(nal);
        payload = rest;
    }
}

/// FU-A (5.8).
fn unpack_fragment(unit: &mut PictureDepacketiser, payload: &[u8]) {
    let Some((&[indicator, header], rest)) = payload.split_first_chunk::<2>() else {
        unit.damaged = true;
        return;
    };
    let (start, end) = (header & 0x80 != 0, header & 0x40 != 0);
    let nal_header = [indicator & 0xe0 | header & 0x1f];
    unit.take_fragment(start.then_some(&nal_header[..]), rest, end);
}
