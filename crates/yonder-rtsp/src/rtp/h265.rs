//! H.265 payloads (RFC 7798): single NAL units, aggregation packets and fragmentation units.

use super::picture::PictureDepacketiser;

/// Takes the NAL units out of a payload (4.4). With `order_numbers` the packets hold decoding order numbers; those
/// are passed over, since cameras send in decoding order all the same.
pub(super) fn unpack(unit: &mut PictureDepacketiser, payload: &[u8], order_numbers: bool) {
    let Some((&[first, second], _)) = payload.split_first_chunk::<2>() else { return };
    match first >> 1 & 0x3f {
        0..=47 => unpack_single(unit, payload, order_numbers),
        48 => unpack_aggregate(unit, payload, order_numbers),
        49 => unpack_fragment(unit, [first, second], payload, order_numbers),
        // 50 is PACI, which is sent only after an agreement that is never made.
        _ => unit.damaged = true,
    }
}

/// 4.4.1: with order numbers, a DONL field stands behind the header and must be cut out.
fn unpack_single(unit: &mut PictureDepacketiser, payload: &[u8], order_numbers: bool) {
    if !order_numbers {
        unit.take_nal(payload);
    } else if let (Some(header), Some(rest)) = (payload.get(..2), payload.get(4..)) {
        unit.take_nal(&[header, rest].concat());
    } else {
        unit.damaged = true;
    }
}

/// 4.4.2: NAL units with 16-bit lengths; DONL before the first, DOND before each further one.
fn unpack_aggregate(unit: &mut PictureDepacketiser, payload: &[u8], order_numbers: bool) {
    let mut payload = payload.get(2..).unwrap_or_default();
    let mut order_bytes = if order_numbers { 2 } else { 0 };
    while !payload.is_empty() {
        let size = payload.get(order_bytes..order_bytes + 2).and_then(|size| size.first_chunk::<2>());
        let Some(size) = size.map(|size| usize::from(u16::from_be_bytes(*size))) else {
            unit.damaged = true;
            return;
        };
        let rest = payload.get(order_bytes + 2..).unwrap_or_default();
        let Some((nal, rest)) = rest.split_at_checked(size) else {
            unit.damaged = true;
            return;
        };
        unit.take_nal(nal);
        payload = rest;
        order_bytes = if order_numbers { 1 } else { 0 };
    }
}

/// 4.4.3: the type of the fragmented unit is in the third byte.
fn unpack_fragment(
    unit: &mut PictureDepacketiser,
    [first, second]: [u8; 2],
    payload: &[u8],
    order_numbers: bool,
) {
    let Some(&header) = payload.get(2) else {
        unit.damaged = true;
        return;
    };
    let (start, end) = (header & 0x80 != 0, header & 0x40 != 0);
    let skipped = if order_numbers && start { 5 } else { 3 };
    let Some(piece) = payload.get(skipped..) else {
        unit.damaged = true;
        return;
    };
    let nal_header = [first & 0x81 | (header & 0x3f) << 1, second];
    unit.take_fragment(start.then_some(&nal_header[..]), piece, end);
}
