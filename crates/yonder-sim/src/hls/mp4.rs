//! Reader of fragmented MP4 (ISO/IEC 14496-12): the samples of a segment.

use bytes::Bytes;

/// Sample of a fragment.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Sample {
    /// Duration in the track's timescale.
    pub(super) duration: u64,
    pub(super) is_sync: bool,
    pub(super) data: Bytes,
}

/// Samples of one track in one fragment.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct TrackFragment {
    pub(super) track: u32,
    /// Decoding time of the first sample.
    pub(super) time: u64,
    pub(super) samples: Vec<Sample>,
}

impl TrackFragment {
    /// Returns the decoding time after the last sample.
    pub(super) fn end(&self) -> u64 {
        self.time + self.samples.iter().map(|sample| sample.duration).sum::<u64>()
    }
}

/// Track of an initialization section.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct TrackHeader {
    pub(super) track: u32,
    pub(super) timescale: u32,
    /// Handler (8.4.3): `vide` or `soun`.
    pub(super) handler: Vec<u8>,
}

/// Box with its position in the data.
struct Found {
    kind: [u8; 4],
    begin: usize,
    end: usize,
}

fn number(data: &[u8], at: usize) -> Result<u32, String> {
    let bytes = data.get(at..at + 4).ok_or_else(|| format!("data ends at {at}"))?;
    Ok(u32::from_be_bytes(bytes.try_into().map_err(|_| "four bytes".to_owned())?))
}

/// Returns the boxes within `begin..end`.
fn boxes(data: &[u8], begin: usize, end: usize) -> Result<Vec<Found>, String> {
    let (mut found, mut at) = (Vec::new(), begin);
    while at < end {
        let size = usize::try_from(number(data, at)?).unwrap_or_default();
        let kind: [u8; 4] = number(data, at + 4)?.to_be_bytes();
        if size < 8 || at + size > end {
            return Err(format!("box {} of {size} bytes at {at}", String::from_utf8_lossy(&kind)));
        }
        found.push(Found { kind, begin: at + 8, end: at + size });
        at += size;
    }
    Ok(found)
}

/// Returns the only box of a kind.
fn only<'a>(found: &'a [Found], kind: &[u8; 4]) -> Result<&'a Found, String> {
    let mut fitting = found.iter().filter(|found| found.kind == *kind);
    let first = fitting.next().ok_or_else(|| format!("no {}", String::from_utf8_lossy(kind)))?;
    if fitting.next().is_some() {
        return Err(format!("more than one {}", String::from_utf8_lossy(kind)));
    }
    Ok(first)
}

/// Reads the tracks of an initialization section.
pub(super) fn read_init(data: &[u8]) -> Result<Vec<TrackHeader>, String> {
    let top = boxes(data, 0, data.len())?;
    if top.first().is_none_or(|first| first.kind != *b"ftyp") {
        return Err("does not begin with ftyp (4.3)".into());
    }
    let movie = only(&top, b"moov")?;
    let parts = boxes(data, movie.begin, movie.end)?;
    only(&parts, b"mvex")?;
    let mut tracks = Vec::new();
    for track in parts.iter().filter(|part| part.kind == *b"trak") {
        let inside = boxes(data, track.begin, track.end)?;
        let media = only(&inside, b"mdia")?;
        let media = boxes(data, media.begin, media.end)?;
        // Version 0 of all headers: times have four bytes.
        tracks.push(TrackHeader {
            track: number(data, only(&inside, b"tkhd")?.begin + 12)?,
            timescale: number(data, only(&media, b"mdhd")?.begin + 12)?,
            handler: number(data, only(&media, b"hdlr")?.begin + 8)?.to_be_bytes().to_vec(),
        });
    }
    Ok(tracks)
}

/// Reads the fragments of a segment.
pub(super) fn read_segment(data: &Bytes) -> Result<Vec<TrackFragment>, String> {
    let top = boxes(data, 0, data.len())?;
    let mut fragments = Vec::new();
    let mut at = top.iter();
    while let Some(movie) = at.next() {
        if movie.kind != *b"moof" {
            return Err(format!("{} where a moof is expected", String::from_utf8_lossy(&movie.kind)));
        }
        let content = at.next().filter(|next| next.kind == *b"mdat").ok_or("no mdat after a moof")?;
        let mut used = 0;
        let parts = boxes(data, movie.begin, movie.end)?;
        for track in parts.iter().filter(|part| part.kind == *b"traf") {
            let fragment = read_track(data, movie.begin - 8, track, content)?;
            used += fragment.samples.iter().map(|sample| sample.data.len()).sum::<usize>();
            fragments.push(fragment);
        }
        if used != content.end - content.begin {
            return Err(format!("samples have {used} of {} bytes of the mdat", content.end - content.begin));
        }
    }
    Ok(fragments)
}

fn read_track(data: &Bytes, movie: usize, track: &Found, content: &Found) -> Result<TrackFragment, String> {
    let parts = boxes(data, track.begin, track.end)?;
    let header = only(&parts, b"tfhd")?;
    if number(data, header.begin)? & 0x02_0000 == 0 {
        return Err("tfhd without default-base-is-moof".into());
    }
    let time = only(&parts, b"tfdt")?;
    if number(data, time.begin)? >> 24 != 1 {
        return Err("tfdt is not of version 1".into());
    }
    let (high, low) = (number(data, time.begin + 4)?, number(data, time.begin + 8)?);
    let run = only(&parts, b"trun")?;
    let flags = number(data, run.begin)? & 0xff_ffff;
    if flags & 0x0701 != 0x0701 {
        return Err(format!("trun with flags {flags:#x}"));
    }
    let count = number(data, run.begin + 4)?;
    let mut offset = movie + usize::try_from(number(data, run.begin + 8)?).unwrap_or_default();
    let stride = 12 + if flags & 0x0800 == 0 { 0 } else { 4 };
    let mut samples = Vec::new();
    for index in 0..usize::try_from(count).unwrap_or_default() {
        let at = run.begin + 12 + index * stride;
        let size = usize::try_from(number(data, at + 4)?).unwrap_or_default();
        if offset < content.begin || offset + size > content.end {
            return Err(format!("sample {index} is outside of the mdat"));
        }
        samples.push(Sample {
            duration: u64::from(number(data, at)?),
            // sample_is_non_sync_sample (8.8.3.1)
            is_sync: number(data, at + 8)? & 0x1_0000 == 0,
            data: data.slice(offset..offset + size),
        });
        offset += size;
    }
    let time = u64::from(high) << 32 | u64::from(low);
    Ok(TrackFragment { track: number(data, header.begin + 4)?, time, samples })
}
