//! AAC in PES packets: ADTS frames and LATM elements, which may continue in the next packet.

use bytes::{Bytes, BytesMut};

use crate::aac::{self, SAMPLES_PER_FRAME, StreamMux};
use crate::stream::AudioConfig;
use crate::ticks::of_samples;

use super::section::StreamType;

/// Bytes up to the length of a LATM element (`AudioSyncStream`, ISO/IEC 14496-3, 1.7.2).
const LOAS_HEADER: usize = 3;
/// Bytes of an ADTS header up to the length.
const ADTS_HEADER: usize = 6;

/// Frames of one PES packet, with the time of the first.
pub(super) type Frames = (i64, AudioConfig, Vec<Bytes>);

/// Reader of one audio stream.
#[derive(Debug, Default)]
pub(super) struct AudioReader {
    mux: Option<StreamMux>,
    /// Beginning of a frame that continues in the next packet: less than 8 kB, since lengths have 13 bits.
    rest: Bytes,
    /// Time of the frame in `rest`.
    rest_pts: i64,
}

impl AudioReader {
    /// Drops an incomplete frame, after a loss.
    pub(super) fn reset(&mut self) {
        self.rest = Bytes::new();
    }

    /// Extracts the frames of a packet. The time of a packet is that of the first frame that begins in it (2.4.3.7).
    /// `None` if it has data that is neither.
    pub(super) fn read(&mut self, kind: StreamType, pts: i64, data: Bytes) -> Option<Vec<Frames>> {
        let carried = self.rest.len();
        let data = if carried == 0 { data } else { joined(&std::mem::take(&mut self.rest), &data) };
        let mut groups: Vec<Frames> = Vec::new();
        let (mut at, mut next_pts) = (0, if carried == 0 { pts } else { self.rest_pts });
        let mut is_carried = carried > 0;
        while at < data.len() {
            // The time of the packet begins a group.
            let begins = std::mem::take(&mut is_carried) && at >= carried;
            is_carried = carried > 0 && at < carried;
            if begins {
                next_pts = pts;
            }
            let rest = data.slice(at..);
            let length = length_of(kind, &rest)?;
            let Some(length) = length.filter(|length| *length <= rest.len()) else {
                (self.rest, self.rest_pts) = (rest, next_pts);
                break;
            };
            let (config, frames) = self.frames(kind, rest.slice(..length))?;
            let duration = of_samples(i64::from(SAMPLES_PER_FRAME), config.sample_rate());
            let count = i64::try_from(frames.len()).unwrap_or_default();
            match groups.last_mut().filter(|(_, known, _)| !begins && *known == config) {
                Some((_, _, group)) => group.extend(frames),
                None => groups.push((next_pts, config, frames)),
            }
            next_pts += duration * count;
            at += length;
        }
        Some(groups)
    }

    fn frames(&mut self, kind: StreamType, data: Bytes) -> Option<(AudioConfig, Vec<Bytes>)> {
        if kind == StreamType::Latm {
            let element = data.slice(LOAS_HEADER..);
            let frames = StreamMux::take_frames(&mut self.mux, true, &element).ok()?;
            let config = AudioConfig::aac(self.mux.as_ref()?.specific.clone())?;
            return Some((config, frames));
        }
        aac::split_adts(&data).ok()
    }
}

/// Returns the length of the frame or element at the beginning of `data`; the inner `None` if its header is incomplete, the
/// outer one if there is none.
fn length_of(kind: StreamType, data: &[u8]) -> Option<Option<usize>> {
    let (header, is_sync): (usize, fn(u8, u8) -> bool) = if kind == StreamType::Latm {
        (LOAS_HEADER, |first, second| first == 0x56 && second & 0xe0 == 0xe0)
    } else {
        (ADTS_HEADER, |first, second| first == 0xff && second & 0xf0 == 0xf0)
    };
    if let Some(&[first, second]) = data.first_chunk::<2>()
        && !is_sync(first, second)
    {
        return None;
    }
    let Some(head) = data.get(..header) else { return Some(None) };
    let length = match *head {
        [_, second, third] => LOAS_HEADER + (usize::from(second & 0x1f) << 8 | usize::from(third)),
        [_, _, _, a, b, c] => usize::from(a & 3) << 11 | usize::from(b) << 3 | usize::from(c >> 5),
        _ => return None,
    };
    (length > header).then_some(Some(length))
}

fn joined(first: &Bytes, second: &Bytes) -> Bytes {
    let mut out = BytesMut::with_capacity(first.len() + second.len());
    out.extend_from_slice(first);
    out.extend_from_slice(second);
    out.freeze()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::aac::{AudioSpecificConfig, adts_header};
    use rstest::rstest;

    const FRAME_TICKS: i64 = 1_920;

    fn adts(count: u8) -> Bytes {
        let facts = AudioSpecificConfig::parse(&[0x11, 0x90]).unwrap();
        let frames = (0..count).map(|at| [&adts_header(&facts, 100).unwrap()[..], &[at; 100]].concat());
        frames.collect::<Vec<_>>().concat().into()
    }

    /// Three elements; the first two have a configuration (AAC-LC, 48 kHz, stereo).
    fn latm() -> Bytes {
        // useSameStreamMux 0, audioMuxVersion 0, allStreamsSameTimeFraming 1, 0 sub frames, one program and layer,
        // AudioSpecificConfig 0x1190, frame length type 0, buffer fullness 0xff, no other data, no CRC; length 2, and a frame.
        let mut bits = vec![0_u8, 0, 1];
        let mut put =
            |value: u32, count: u32| bits.extend((0..count).rev().map(|bit| u8::from(value >> bit & 1 == 1)));
        put(0, 6);
        put(0, 4);
        put(0, 3);
        put(0x1190, 16);
        put(0, 3);
        put(0xff, 8);
        put(0, 1);
        put(0, 1);
        put(2, 8);
        put(0x2122, 16);
        bits.resize(bits.len().next_multiple_of(8), 0);
        let element: Vec<u8> =
            bits.chunks(8).map(|byte| byte.iter().fold(0, |sum, bit| sum << 1 | bit)).collect();
        let length = u8::try_from(element.len()).unwrap();
        [&[0x56, 0xe0, length][..], &element].concat().repeat(3).into()
    }

    fn times(groups: &[Frames]) -> Vec<(i64, usize)> {
        groups.iter().map(|(pts, _, frames)| (*pts, frames.len())).collect()
    }

    #[rstest]
    #[case::adts(StreamType::Adts, adts(3))]
    #[case::latm(StreamType::Latm, latm())]
    fn packet_of_whole_frames_has_their_times(#[case] kind: StreamType, #[case] data: Bytes) {
        let groups = AudioReader::default().read(kind, 900, data).unwrap();
        assert_eq!(times(&groups), [(900, 3)]);
        assert_eq!((groups[0].1.sample_rate(), groups[0].1.channels()), (48_000, 2));
    }

    #[rstest]
    #[case::adts(StreamType::Adts, adts(4))]
    #[case::latm(StreamType::Latm, latm())]
    fn frame_continues_in_the_next_packet(
        #[case] kind: StreamType,
        #[case] data: Bytes,
        #[values(1, 2, 5, 6)] left: usize,
    ) {
        let mut reader = AudioReader::default();
        let frame = data.len() / if kind == StreamType::Adts { 4 } else { 3 };
        let cut = 2 * frame - left;
        let whole = reader.read(kind, 0, data.slice(..cut)).unwrap();
        assert_eq!(times(&whole), [(0, 1)]);
        // The time of the second packet is that of the first frame that begins in it.
        let rest = reader.read(kind, 2 * FRAME_TICKS + 7, data.slice(cut..)).unwrap();
        let count = if kind == StreamType::Adts { 2 } else { 1 };
        assert_eq!(times(&rest), [(FRAME_TICKS, 1), (2 * FRAME_TICKS + 7, count)]);
    }

    #[test]
    fn other_data_is_refused() {
        assert_eq!(AudioReader::default().read(StreamType::Adts, 0, Bytes::from_static(b"ID3")), None);
    }
}
