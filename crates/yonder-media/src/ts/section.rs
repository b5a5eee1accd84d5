//! Program association and program map sections (2.4.4).

use bytes::{BufMut, Bytes, BytesMut};

use super::crc::crc32;

const PAT_TABLE: u8 = 0;
const PMT_TABLE: u8 = 2;
/// Number of the program.
const PROGRAM: u16 = 1;
/// Maximum elementary streams of a received map.
const MAX_STREAMS: usize = 16;

/// Type of an elementary stream (table 2-34).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StreamType {
    /// AAC in ADTS (0x0f).
    Adts,
    /// AAC in LATM (0x11).
    Latm,
    /// H.264 (0x1b).
    H264,
    /// H.265 (0x24).
    H265,
    /// Any other type.
    Other(u8),
}

impl StreamType {
    fn number(self) -> u8 {
        match self {
            Self::Adts => 0x0f,
            Self::Latm => 0x11,
            Self::H264 => 0x1b,
            Self::H265 => 0x24,
            Self::Other(number) => number,
        }
    }

    fn from_number(number: u8) -> Self {
        match number {
            0x0f => Self::Adts,
            0x11 => Self::Latm,
            0x1b => Self::H264,
            0x24 => Self::H265,
            other => Self::Other(other),
        }
    }
}

/// Program map: PID of the clock, and the streams.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct ProgramMap {
    pub(super) pcr_pid: u16,
    pub(super) streams: Vec<(StreamType, u16)>,
}

/// Returns a complete section: header, body and CRC.
fn section(table: u8, version: u8, body: &[u8]) -> Bytes {
    let mut out = BytesMut::with_capacity(12 + body.len());
    // `section_length` counts the bytes after it: five of the header, body, CRC.
    let length = u16::try_from(5 + body.len() + 4).unwrap_or_default();
    out.put_u8(table);
    out.put_u16(0xb000 | length & 0x0fff);
    out.put_u16(PROGRAM);
    out.put_u8(0xc1 | (version & 0x1f) << 1);
    out.put_u16(0); // section_number, last_section_number
    out.put_slice(body);
    out.put_u32(crc32(&out));
    out.freeze()
}

/// Returns the program association section.
pub(super) fn association(map_pid: u16, version: u8) -> Bytes {
    let mut body = [0; 4];
    let (program, pid) = body.split_at_mut(2);
    program.copy_from_slice(&PROGRAM.to_be_bytes());
    pid.copy_from_slice(&(0xe000 | map_pid).to_be_bytes());
    section(PAT_TABLE, version, &body)
}

/// Returns the program map section.
pub(super) fn map(map: &ProgramMap, version: u8) -> Bytes {
    let mut body = BytesMut::with_capacity(4 + 5 * map.streams.len());
    body.put_u16(0xe000 | map.pcr_pid);
    body.put_u16(0xf000); // program_info_length
    for (kind, pid) in &map.streams {
        body.put_u8(kind.number());
        body.put_u16(0xe000 | pid);
        body.put_u16(0xf000); // ES_info_length
    }
    section(PMT_TABLE, version, &body)
}

/// Returns the body of a received section of the given table if its CRC is correct, and it applies now
/// (`current_next_indicator`).
fn body_of(section: &[u8], table: u8) -> Option<&[u8]> {
    let &[id, _, _, _, _, version, _, _] = section.first_chunk::<8>()?;
    if id != table || version & 1 == 0 || crc32(section) != 0 {
        return None;
    }
    section.get(8..section.len().checked_sub(4)?)
}

/// Returns the PIDs of the programs' maps.
pub(super) fn read_association(section: &[u8]) -> Option<Vec<u16>> {
    let body = body_of(section, PAT_TABLE)?;
    let programs = body.chunks_exact(4).filter_map(|entry| match entry {
        // Program 0 is the network information table.
        [0, 0, ..] => None,
        [_, _, high, low] => Some(u16::from_be_bytes([high & 0x1f, *low])),
        _ => None,
    });
    Some(programs.collect())
}

/// Parses the program map.
pub(super) fn read_map(section: &[u8]) -> Option<ProgramMap> {
    let body = body_of(section, PMT_TABLE)?;
    let (&[pcr_high, pcr_low, info_high, info_low], rest) = body.split_first_chunk::<4>()?;
    let mut rest = rest.get(usize::from(u16::from_be_bytes([info_high & 0x0f, info_low]))..)?;
    let mut streams = Vec::new();
    while let Some((&[kind, high, low, info_high, info_low], after)) = rest.split_first_chunk::<5>() {
        if streams.len() == MAX_STREAMS {
            break;
        }
        streams.push((StreamType::from_number(kind), u16::from_be_bytes([high & 0x1f, low])));
        rest = after.get(usize::from(u16::from_be_bytes([info_high & 0x0f, info_low]))..)?;
    }
    Some(ProgramMap { pcr_pid: u16::from_be_bytes([pcr_high & 0x1f, pcr_low]), streams })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_association_names_the_map() {
        let section = association(0x1000, 0);
        assert_eq!(section.len(), 16);
        assert_eq!(read_association(&section), Some(vec![0x1000]));
    }

    #[test]
    fn a_map_names_clock_and_streams() {
        let streams = vec![(StreamType::H265, 0x100), (StreamType::Adts, 0x101)];
        let sent = ProgramMap { pcr_pid: 0x100, streams };
        assert_eq!(read_map(&map(&sent, 3)), Some(sent));
    }

    #[test]
    fn damaged_section_is_ignored() {
        let mut section = association(0x1000, 0).to_vec();
        section[9] ^= 1;
        assert_eq!(read_association(&section), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let _ = (read_association(&data), read_map(&data));
        }
    }
}
