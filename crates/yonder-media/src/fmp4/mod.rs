//! Fragmented MP4 (ISO/IEC 14496-12, 8.8) for browsers: an initialization segment, then fragments of one frame each, so that
//! a preview has little latency, or of a whole segment (HLS).

mod boxes;
mod fragment;
mod init;

use crate::stream::{AudioConfig, StreamHeaders, VideoConfig};

pub use fragment::Fragmenter;
pub(crate) use fragment::{TrackRun, fragment};
pub use init::initialisation;

/// Track numbers.
const VIDEO_TRACK: u32 = 1;
const AUDIO_TRACK: u32 = 2;

/// MIME type of the segments with codecs as in RFC 6381; `None` before the video headers are known.
#[must_use]
pub fn mime_type(headers: &StreamHeaders) -> Option<String> {
    codecs(headers).map(|codecs| format!("video/mp4; codecs=\"{codecs}\""))
}

/// Codecs of the tracks (RFC 6381), separated by a comma; `None` before the video headers are known.
#[must_use]
pub fn codecs(headers: &StreamHeaders) -> Option<String> {
    let video = headers.video.as_ref()?;
    let mut codecs = vec![match video {
        VideoConfig::H264(config) => {
            let facts = &config.facts;
            format!("avc1.{:02x}{:02x}{:02x}", facts.profile, facts.constraints, facts.level)
        }
        VideoConfig::H265(config) => hevc_codec(&config.facts.level),
    }];
    if let Some(AudioConfig::Aac { facts, .. }) = &headers.audio {
        codecs.push(format!("mp4a.40.{}", facts.object_type));
    }
    Some(codecs.join(", "))
}

/// Codec string for H.265 (ISO/IEC 14496-15, E.3): profile, compatibility flags in reverse order, tier and level,
/// constraints.
fn hevc_codec(level: &crate::h265::ProfileTierLevel) -> String {
    let space = ["", "A", "B", "C"].get(usize::from(level.space)).copied().unwrap_or_default();
    let tier = if level.tier == crate::h265::Tier::High { 'H' } else { 'L' };
    let mut codec = format!(
        "hvc1.{space}{}.{:X}.{tier}{}",
        level.profile,
        level.compatibility.reverse_bits(),
        level.level
    );
    let used = level.constraints.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    for byte in level.constraints.iter().take(used) {
        codec += &format!(".{byte:X}");
    }
    codec
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use bytes::Bytes;

    use super::*;
    use crate::h265::sps::tests::{SAMPLE_MAIN_1080P, SAMPLE_PPS, SAMPLE_VPS};
    use crate::unit::{AccessUnit, Frame, Payload, Track};
    use crate::{h264, h265};

    /// Size of a `moof` with one sample: 8 + 16 + (8 + 16 + 20 + 36).
    const MOOF_BYTES: u32 = 104;
    /// Flags of a sync sample.
    const SYNC_SAMPLE: u32 = 0x0200_0000;

    fn headers() -> StreamHeaders {
        let mut sets = h264::ParameterSets::default();
        sets.take(&Bytes::from_static(h264::sps::tests::SAMPLE_HIGH_1080P));
        sets.take(&Bytes::from_static(&[0x68, 0xce, 0x3c, 0x80]));
        StreamHeaders {
            video: sets.config().map(VideoConfig::H264),
            audio: AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])),
        }
    }

    /// Returns a frame of two slices, with an access unit delimiter, parameter sets and filler data around them.
    fn picture(dts: i64, keyframe: bool) -> Arc<Frame> {
        let nals: [&'static [u8]; 6] =
            [&[9, 0xf0], &[0x67, 1], &[0x68, 1], &[0x65, 1, 2], &[0x65, 3], &[12, 0xff]];
        let payload = Payload::Nals(nals.map(Bytes::from_static).to_vec());
        let unit = AccessUnit { track: Track::Video, dts, pts: dts + 7_200, keyframe, payload };
        Arc::new(Frame::new(unit, Arc::new(headers())))
    }

    /// Parses boxes to pairs of path and content.
    fn boxes(data: &[u8], path: &str, found: &mut Vec<(String, Vec<u8>)>) {
        let mut rest = data;
        while !rest.is_empty() {
            let length = u32::from_be_bytes(rest[..4].try_into().unwrap()) as usize;
            assert!(length >= 8 && length <= rest.len(), "length {length} in {path}");
            let kind = String::from_utf8(rest[4..8].to_vec()).unwrap();
            let path = format!("{path}/{kind}");
            let content = &rest[8..length];
            if ["moov", "trak", "mdia", "minf", "dinf", "stbl", "mvex", "moof", "traf"]
                .contains(&kind.as_str())
            {
                boxes(content, &path, found);
            }
            found.push((path, content.to_vec()));
            rest = &rest[length..];
        }
    }

    fn read(data: &[u8]) -> Vec<(String, Vec<u8>)> {
        let mut found = Vec::new();
        boxes(data, "", &mut found);
        found
    }

    fn content<'a>(found: &'a [(String, Vec<u8>)], path: &str) -> &'a [u8] {
        &found.iter().find(|(name, _)| name == path).unwrap_or_else(|| panic!("no {path}")).1
    }

    #[test]
    fn the_initialisation_describes_both_tracks() {
        let found = read(&initialisation(&headers()).unwrap());
        let tracks = found.iter().filter(|(path, _)| path == "/moov/trak/tkhd").count();
        assert_eq!((tracks, found[0].0.as_str()), (2, "/ftyp"));
        let description = content(&found, "/moov/trak/mdia/minf/stbl/stsd");
        let record = headers().video.unwrap().record();
        assert!(description.windows(record.len()).any(|window| window == record));
        let audio = &found.iter().rfind(|(path, _)| path.ends_with("/stsd")).unwrap().1;
        // The descriptors' lengths fit: the innermost ends three bytes before the end.
        assert!(audio.ends_with(&[5, 2, 0x11, 0x90, 6, 1, 2]));
        let es = audio.windows(4).position(|w| w == b"esds").unwrap() + 8;
        assert_eq!(usize::from(audio[es + 1]), audio.len() - es - 2);
    }

    #[test]
    fn each_track_has_one_set_of_defaults() {
        let silent = StreamHeaders { audio: None, ..headers() };
        for (headers, tracks) in [(headers(), vec![VIDEO_TRACK, AUDIO_TRACK]), (silent, vec![VIDEO_TRACK])] {
            let found = read(&initialisation(&headers).unwrap());
            let defaults = found.iter().filter(|(path, _)| path.ends_with("/mvex/trex"));
            let numbers = defaults.map(|(_, content)| u32::from_be_bytes(content[4..8].try_into().unwrap()));
            assert_eq!(numbers.collect::<Vec<_>>(), tracks);
            assert_eq!(found.iter().filter(|(path, _)| path.ends_with("/trak/tkhd")).count(), tracks.len());
        }
    }

    #[test]
    fn a_unit_becomes_a_fragment_once_its_length_is_known() {
        let mut fragmenter = Fragmenter::default();
        assert_eq!(fragmenter.add(&picture(90_000, true)), None);
        let fragment = fragmenter.add(&picture(93_600, false)).unwrap();
        let found = read(&fragment);
        let moof = content(&found, "/moof");
        assert_eq!(moof.len() + 8, MOOF_BYTES as usize);
        assert_eq!(content(&found, "/moof/traf/tfdt")[4..], 0_u64.to_be_bytes());
        let run = content(&found, "/moof/traf/trun");
        let numbers: Vec<u32> = run.chunks(4).map(|c| u32::from_be_bytes(c.try_into().unwrap())).collect();
        assert_eq!(numbers, [0x0f01, 1, MOOF_BYTES + 8, 3_600, 13, SYNC_SAMPLE, 7_200]);
        assert_eq!(content(&found, "/mdat"), [0, 0, 0, 3, 0x65, 1, 2, 0, 0, 0, 2, 0x65, 3]);
        let next = read(&fragmenter.add(&picture(97_200, false)).unwrap());
        assert_eq!(content(&next, "/moof/traf/tfdt")[4..], 3_600_u64.to_be_bytes());
        assert_eq!(content(&next, "/moof/mfhd")[4..], 2_u32.to_be_bytes());
    }

    #[test]
    fn types_are_written_for_browsers() {
        assert_eq!(mime_type(&headers()).unwrap(), "video/mp4; codecs=\"avc1.640028, mp4a.40.2\"");
        let mut sets = h265::ParameterSets::default();
        for nal in [SAMPLE_VPS, SAMPLE_MAIN_1080P, SAMPLE_PPS] {
            sets.take(&Bytes::from_static(nal));
        }
        let hevc = StreamHeaders { video: sets.config().map(VideoConfig::H265), audio: None };
        assert_eq!(mime_type(&hevc).unwrap(), "video/mp4; codecs=\"hvc1.1.6.L120.90\"");
        assert!(initialisation(&hevc).unwrap().windows(4).any(|window| window == b"hvcC"));
        assert_eq!(
            (mime_type(&StreamHeaders::default()), initialisation(&StreamHeaders::default())),
            (None, None)
        );
    }
}
