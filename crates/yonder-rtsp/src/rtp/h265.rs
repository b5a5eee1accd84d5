//! H.265 payload format (RFC 7798): single NAL units, aggregation packets and fragmentation units.

use super::payload::{Header, Piece, Refusal, split_aggregate, split_annex_b};

/// Parses the pieces of NAL units in a payload (4.4). With `order_numbers` the packets contain decoding order numbers,
/// which are skipped, since cameras send in decoding order.
///
/// # Errors
/// [`Refusal`] of the rest of the payload. [`Refusal`] of the rest of the payload.
pub(super) fn read(
    payload: &[u8],
    order_numbers: bool,
    mut visit: impl FnMut(Piece<'_>),
) -> Result<(), Refusal> {
    let Some(&[first, second]) = payload.first_chunk::<2>() else { return Ok(()) };
    // A temporal ID of 0 is forbidden in a header: this is a start code.
    if payload.starts_with(&[0, 0, 1]) || payload.starts_with(&[0, 0, 0, 1]) {
        split_annex_b(payload, visit);
        return Ok(());
    }
    match first >> 1 & 0x3f {
        // 4.4.1: a DONL field follows the header.
        0..=47 if order_numbers => {
            visit(Piece::WholeInParts([first, second], payload.get(4..).ok_or(Refusal::CutShort)?));
            Ok(())
        }
        0..=47 => {
            visit(Piece::Whole(payload));
            Ok(())
        }
        // 4.4.2: DONL before the first unit, DOND before each further one.
        48 => {
            let (donl, dond) = if order_numbers { (2, 1) } else { (0, 0) };
            split_aggregate(payload.get(2..).unwrap_or_default(), donl, dond, visit)
        }
        49 => read_fragment([first, second], payload, order_numbers, visit),
        // PACI (50), and unspecified types.
        _ => Err(Refusal::Ignored),
    }
}

/// Parses a fragment (4.4.3): the type of the NAL unit is in the third byte.
fn read_fragment(
    [first, second]: [u8; 2],
    payload: &[u8],
    order_numbers: bool,
    mut visit: impl FnMut(Piece<'_>),
) -> Result<(), Refusal> {
    let &header = payload.get(2).ok_or(Refusal::CutShort)?;
    let begins = header & 0x80 != 0;
    let data_at = if order_numbers && begins { 5 } else { 3 };
    let data = payload.get(data_at..).ok_or(Refusal::CutShort)?;
    if begins {
        visit(Piece::Begin(Header::Two([first & 0x81 | (header & 0x3f) << 1, second]), data));
    } else {
        visit(Piece::Middle(data));
    }
    if header & 0x40 != 0 {
        visit(Piece::End);
    }
    Ok(())
}
