//! Packetized elementary streams: PES header with timestamps (2.4.3.6).

use bytes::{BufMut, Bytes, BytesMut};

use super::packet::CLOCK_BITS;

/// `stream_id` of the first video and the first audio stream (table 2-22).
pub(super) const VIDEO_ID: u8 = 0xe0;
pub(super) const AUDIO_ID: u8 = 0xc0;

/// Returns the header of a PES packet with `payload` bytes. Video has no length, since it may exceed the field.
pub(super) fn header(id: u8, pts: i64, dts: i64, payload: usize) -> Bytes {
    let with_dts = pts != dts;
    let times: u8 = if with_dts { 10 } else { 5 };
    let mut out = BytesMut::with_capacity(19);
    out.put_slice(&[0, 0, 1, id]);
    let length = if id == VIDEO_ID { 0 } else { 3 + usize::from(times) + payload };
    out.put_u16(u16::try_from(length).unwrap_or_default());
    // '10', data_alignment_indicator.
    out.put_u8(0x84);
    out.put_u8(if with_dts { 0xc0 } else { 0x80 });
    out.put_u8(times);
    put_time(&mut out, if with_dts { 3 } else { 2 }, pts);
    if with_dts {
        put_time(&mut out, 1, dts);
    }
    out.freeze()
}

/// Writes 33 bits in three parts, each followed by a marker bit.
fn put_time(out: &mut BytesMut, prefix: u64, ticks: i64) {
    let ticks = u64::try_from(ticks.rem_euclid(1 << CLOCK_BITS)).unwrap_or_default();
    let high = ticks >> 30 & 0x7;
    let middle = ticks >> 15 & 0x7fff;
    let low = ticks & 0x7fff;
    out.put_uint(prefix << 36 | high << 33 | 1 << 32 | middle << 17 | 1 << 16 | low << 1 | 1, 5);
}

/// Parsed header: times, payload length if given, and payload offset.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct PesHeader {
    pub(super) pts: i64,
    pub(super) dts: i64,
    pub(super) payload_at: usize,
    pub(super) payload: Option<usize>,
}

/// Parses a header; `None` if it is truncated, invalid, or has no timestamp.
pub(super) fn read(data: &[u8]) -> Option<PesHeader> {
    let (&[0, 0, 1, _, high, low, flags, which, times], rest) = data.split_first_chunk::<9>()? else {
        return None;
    };
    if flags & 0xc0 != 0x80 || which & 0x80 == 0 {
        return None;
    }
    let (pts, rest) = read_time(rest)?;
    let dts = if which & 0x40 == 0 { pts } else { read_time(rest)?.0 };
    let payload_at = 9 + usize::from(times);
    let length = usize::from(u16::from_be_bytes([high, low]));
    let payload = if length == 0 { None } else { Some((6 + length).checked_sub(payload_at)?) };
    Some(PesHeader { pts, dts, payload_at, payload })
}

fn read_time(data: &[u8]) -> Option<(i64, &[u8])> {
    let (&[a, b, c, d, e], rest) = data.split_first_chunk::<5>()?;
    let middle = i64::from(u16::from_be_bytes([b, c]) >> 1);
    let low = i64::from(u16::from_be_bytes([d, e]) >> 1);
    Some((i64::from(a >> 1 & 7) << 30 | middle << 15 | low, rest))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn times_survive_the_round_trip(dts in 0_i64..1 << 33, offset in 0_i64..90_000, audio: bool) {
            let pts = (dts + offset) % (1 << 33);
            let (id, length) = if audio { (AUDIO_ID, Some(400)) } else { (VIDEO_ID, None) };
            let header = header(id, pts, dts, 400);
            let read = read(&header).unwrap();
            prop_assert_eq!((read.pts, read.dts, read.payload), (pts, dts, length));
            prop_assert_eq!(read.payload_at, header.len());
        }

        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let _ = read(&data);
        }
    }
}
