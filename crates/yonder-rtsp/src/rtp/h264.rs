//! H.264 payload format (RFC 6184): single NAL units, STAP and FU.

use super::payload::{Header, Piece, Refusal, split_aggregate, split_annex_b};

/// Parses the pieces of NAL units in a payload (5.2).
///
/// # Errors
/// [`Refusal`] of the rest of the payload.
pub(super) fn read(payload: &[u8], mut visit: impl FnMut(Piece<'_>)) -> Result<(), Refusal> {
    let Some((&indicator, rest)) = payload.split_first() else { return Ok(()) };
    match indicator & 0x1f {
        1..=23 => {
            visit(Piece::Whole(payload));
            Ok(())
        }
        24 => split_aggregate(rest, 0, 0, visit),
        // STAP-B and FU-B begin with a decoding order number. Cameras send in decoding order anyway.
        25 => split_aggregate(rest.get(2..).ok_or(Refusal::CutShort)?, 0, 0, visit),
        26 | 27 => Err(Refusal::Interleaved),
        28 => read_fragment(payload, 2, visit),
        29 => read_fragment(payload, 4, visit),
        0 if payload.starts_with(&[0, 0, 1]) || payload.starts_with(&[0, 0, 0, 1]) => {
            split_annex_b(payload, visit);
            Ok(())
        }
        _ => Err(Refusal::Ignored),
    }
}

/// Parses FU-A and FU-B (5.8), whose data begins at `data_at`.
fn read_fragment(payload: &[u8], data_at: usize, mut visit: impl FnMut(Piece<'_>)) -> Result<(), Refusal> {
    let Some(&[indicator, header]) = payload.first_chunk::<2>() else { return Err(Refusal::CutShort) };
    let data = payload.get(data_at..).ok_or(Refusal::CutShort)?;
    if header & 0x80 != 0 {
        visit(Piece::Begin(Header::One(indicator & 0xe0 | header & 0x1f), data));
    } else {
        visit(Piece::Middle(data));
    }
    if header & 0x40 != 0 {
        visit(Piece::End);
    }
    Ok(())
}
