//! Fragmented MP4 (ISO/IEC 14496-12, 8.8) for browsers: an initialization segment, then one fragment per frame, so that a
//! preview has little latency.

use std::sync::Arc;

use bytes::{BufMut, Bytes, BytesMut};

use crate::stream::{AudioConfig, StreamHeaders, VideoCodec, VideoConfig};
use crate::ticks::TICKS_PER_SECOND;
use crate::unit::{AccessUnit, Frame, Payload, PerTrack, Track};

/// Track numbers.
const VIDEO_TRACK: u32 = 1;
const AUDIO_TRACK: u32 = 2;
/// `sample_depends_on` 2: an intra frame (8.8.3.1).
const SYNC_SAMPLE: u32 = 0x0200_0000;
/// `sample_depends_on` 1, and not a sync sample.
const OTHER_SAMPLE: u32 = 0x0101_0000;

/// MIME type of the segments with codecs as in RFC 6381; `None` before the video headers are known.
#[must_use]
pub fn mime_type(headers: &StreamHeaders) -> Option<String> {
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
    Some(format!("video/mp4; codecs=\"{}\"", codecs.join(", ")))
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

/// Initialization segment: `ftyp` and `moov`. `None` before the video headers are known. G.711 is omitted: browsers do not
/// play it in this container.
#[must_use]
pub fn initialisation(headers: &StreamHeaders) -> Option<Bytes> {
    let video = headers.video.as_ref()?;
    let mut out = BytesMut::with_capacity(1024);
    put_box(&mut out, b"ftyp", |out| {
        out.put_slice(b"iso6");
        out.put_u32(0);
        out.put_slice(b"iso6mp41");
    });
    put_box(&mut out, b"moov", |out| {
        put_movie_header(out);
        put_video_track(out, video);
        if let Some(AudioConfig::Aac { facts, specific }) = &headers.audio {
            put_audio_track(out, facts.sample_rate, facts.channels, specific);
        }
        put_box(out, b"mvex", |out| {
            let has_audio = matches!(headers.audio, Some(AudioConfig::Aac { .. }));
            // One per track (8.8.3).
            for track in [Some(VIDEO_TRACK), has_audio.then_some(AUDIO_TRACK)].into_iter().flatten() {
                put_full_box(out, b"trex", 0, 0, |out| {
                    // Description index, duration, size and flags by default.
                    for value in [track, 1, 0, 0, 0] {
                        out.put_u32(value);
                    }
                });
            }
        });
    });
    Some(out.freeze())
}

/// Writer of fragments. Each frame waits for the next one of its track, from which its duration is known.
#[derive(Debug, Default)]
pub struct Fragmenter {
    sequence: u32,
    /// Decoding time of the segment's zero.
    origin: Option<i64>,
    waiting: PerTrack<Option<Arc<Frame>>>,
}

impl Fragmenter {
    /// Adds a frame, and returns the fragment of the one before it.
    pub fn add(&mut self, frame: &Arc<Frame>) -> Option<Bytes> {
        let next = frame.unit.dts;
        let origin = *self.origin.get_or_insert(next);
        let before = self.waiting.get_mut(frame.unit.track).replace(Arc::clone(frame))?;
        let codec = before.headers.video.as_ref().map_or(VideoCodec::H264, VideoConfig::codec);
        let before = &before.unit;
        // Frames before the origin have no time in the segment.
        let time = u64::try_from(before.dts - origin).ok()?;
        let duration = u32::try_from(next - before.dts).unwrap_or(1).max(1);
        self.sequence = self.sequence.wrapping_add(1);
        Some(fragment(before, codec, self.sequence, time, duration))
    }
}

/// Writes one frame as `moof` and `mdat` (8.8.4, 8.1.1).
fn fragment(unit: &AccessUnit, codec: VideoCodec, sequence: u32, time: u64, duration: u32) -> Bytes {
    let (track, flags) = match (unit.track, unit.keyframe) {
        (Track::Video, true) => (VIDEO_TRACK, SYNC_SAMPLE),
        (Track::Video, false) => (VIDEO_TRACK, OTHER_SAMPLE),
        (Track::Audio, _) => (AUDIO_TRACK, SYNC_SAMPLE),
    };
    let bytes = match &unit.payload {
        Payload::Nals(nals) => in_sample(nals, codec).map(|nal| nal.len() + 4).sum(),
        Payload::Frame(frame) => frame.len(),
    };
    let size = u32::try_from(bytes).unwrap_or(u32::MAX);
    let offset = u32::try_from(unit.pts.saturating_sub(unit.dts)).unwrap_or_default();
    let mut out = BytesMut::with_capacity(bytes + 128);
    put_box(&mut out, b"moof", |out| {
        put_full_box(out, b"mfhd", 0, 0, |out| out.put_u32(sequence));
        put_box(out, b"traf", |out| {
            // default-base-is-moof
            put_full_box(out, b"tfhd", 0, 0x02_0000, |out| out.put_u32(track));
            put_full_box(out, b"tfdt", 1, 0, |out| out.put_u64(time));
            // Data offset; duration, size, flags and composition offset of the one sample.
            put_full_box(out, b"trun", 0, 0x0f01, |out| {
                out.put_u32(1);
                out.put_u32(MOOF_BYTES + 8);
                for value in [duration, size, flags, offset] {
                    out.put_u32(value);
                }
            });
        });
    });
    put_box(&mut out, b"mdat", |out| match &unit.payload {
        Payload::Nals(nals) => {
            for nal in in_sample(nals, codec) {
                out.put_u32(u32::try_from(nal.len()).unwrap_or(u32::MAX));
                out.put_slice(nal);
            }
        }
        Payload::Frame(frame) => out.put_slice(frame),
    });
    out.freeze()
}

/// Returns the NAL units of a frame that belong in its sample.
fn in_sample(nals: &[Bytes], codec: VideoCodec) -> impl Iterator<Item = &Bytes> {
    nals.iter().filter(move |nal| codec.is_in_sample(nal))
}

/// Size of a `moof` with one sample: 8 + 16 + (8 + 16 + 20 + 36).
const MOOF_BYTES: u32 = 104;

fn put_box(out: &mut BytesMut, kind: &[u8; 4], content: impl FnOnce(&mut BytesMut)) {
    let mut inner = BytesMut::new();
    content(&mut inner);
    out.put_u32(u32::try_from(inner.len() + 8).unwrap_or(u32::MAX));
    out.put_slice(kind);
    out.put_slice(&inner);
}

fn put_full_box(
    out: &mut BytesMut,
    kind: &[u8; 4],
    version: u8,
    flags: u32,
    content: impl FnOnce(&mut BytesMut),
) {
    put_box(out, kind, |out| {
        out.put_u32(u32::from(version) << 24 | flags);
        content(out);
    });
}

/// The unity matrix of 6.2.2.
fn put_matrix(out: &mut BytesMut) {
    for value in [0x0001_0000, 0, 0, 0, 0x0001_0000, 0, 0, 0, 0x4000_0000] {
        out.put_u32(value);
    }
}

fn put_movie_header(out: &mut BytesMut) {
    put_full_box(out, b"mvhd", 0, 0, |out| {
        // Creation, modification, timescale, duration.
        for value in [0, 0, 1_000, 0] {
            out.put_u32(value);
        }
        out.put_u32(0x0001_0000); // rate
        out.put_u16(0x0100); // volume
        out.put_bytes(0, 10);
        put_matrix(out);
        out.put_bytes(0, 24);
        out.put_u32(AUDIO_TRACK + 1); // next_track_ID
    });
}

fn put_video_track(out: &mut BytesMut, video: &VideoConfig) {
    let facts = video.facts();
    let (kind, record): (&[u8; 4], &[u8; 4]) = match facts.codec {
        VideoCodec::H264 => (b"avc1", b"avcC"),
        VideoCodec::H265 => (b"hvc1", b"hvcC"),
    };
    let edge = |samples: u32| u16::try_from(samples).unwrap_or(u16::MAX);
    let entry = |out: &mut BytesMut| {
        put_box(out, kind, |out| {
            out.put_bytes(0, 6);
            out.put_u16(1); // data_reference_index
            out.put_bytes(0, 16);
            out.put_u16(edge(facts.width));
            out.put_u16(edge(facts.height));
            out.put_u32(0x0048_0000); // 72 dpi
            out.put_u32(0x0048_0000);
            out.put_u32(0);
            out.put_u16(1); // frame_count
            out.put_bytes(0, 32); // compressorname
            out.put_u16(24); // depth
            out.put_i16(-1);
            put_box(out, record, |out| out.put_slice(&video.record()));
        });
    };
    put_track(out, VIDEO_TRACK, (facts.width, facts.height), b"vide", entry);
}

fn put_audio_track(out: &mut BytesMut, sample_rate: u32, channels: u8, specific: &[u8]) {
    let entry = |out: &mut BytesMut| {
        put_box(out, b"mp4a", |out| {
            out.put_bytes(0, 6);
            out.put_u16(1);
            out.put_bytes(0, 8);
            out.put_u16(u16::from(channels.max(1)));
            out.put_u16(16);
            out.put_u32(0);
            out.put_u32(sample_rate.min(0xffff) << 16);
            put_full_box(out, b"esds", 0, 0, |out| put_descriptors(out, specific));
        });
    };
    put_track(out, AUDIO_TRACK, (0, 0), b"soun", entry);
}

/// `ES_Descriptor` around the `AudioSpecificConfig` (ISO/IEC 14496-1, 7.2.6.5; 14496-14, 3.1.2).
fn put_descriptors(out: &mut BytesMut, specific: &[u8]) {
    let length = |bytes: usize| u8::try_from(bytes).unwrap_or(0x7f);
    out.put_u8(3);
    out.put_u8(length(specific.len() + 2 + 15 + 3 + 3));
    out.put_u16(0); // ES_ID
    out.put_u8(0);
    out.put_u8(4);
    out.put_u8(length(specific.len() + 2 + 13));
    out.put_u8(0x40); // audio of ISO/IEC 14496-3
    out.put_u8(0x15); // audio stream
    out.put_bytes(0, 3); // buffer size
    out.put_u32(0); // highest and average bit rate: unknown
    out.put_u32(0);
    out.put_u8(5);
    out.put_u8(length(specific.len()));
    out.put_slice(specific);
    out.put_slice(&[6, 1, 2]);
}

fn put_track(
    out: &mut BytesMut,
    number: u32,
    (width, height): (u32, u32),
    handler: &[u8; 4],
    entry: impl FnOnce(&mut BytesMut),
) {
    let is_video = number == VIDEO_TRACK;
    put_box(out, b"trak", |out| {
        // Enabled, in the movie, in the preview.
        put_full_box(out, b"tkhd", 0, 7, |out| {
            for value in [0, 0, number, 0, 0, 0, 0] {
                out.put_u32(value);
            }
            out.put_u32(0); // layer, alternate_group
            out.put_u32(if is_video { 0 } else { 0x0100_0000 }); // volume
            put_matrix(out);
            out.put_u32(width << 16);
            out.put_u32(height << 16);
        });
        put_box(out, b"mdia", |out| {
            let timescale = u32::try_from(TICKS_PER_SECOND).unwrap_or(u32::MAX);
            put_full_box(out, b"mdhd", 0, 0, |out| {
                for value in [0, 0, timescale, 0] {
                    out.put_u32(value);
                }
                out.put_u32(0x55c4_0000); // language: undetermined
            });
            put_full_box(out, b"hdlr", 0, 0, |out| {
                out.put_u32(0);
                out.put_slice(handler);
                out.put_bytes(0, 13);
            });
            put_box(out, b"minf", |out| {
                if is_video {
                    put_full_box(out, b"vmhd", 0, 1, |out| out.put_bytes(0, 8));
                } else {
                    put_full_box(out, b"smhd", 0, 0, |out| out.put_u32(0));
                }
                put_box(out, b"dinf", |out| {
                    put_full_box(out, b"dref", 0, 0, |out| {
                        out.put_u32(1);
                        put_full_box(out, b"url ", 0, 1, |_| {});
                    });
                });
                put_box(out, b"stbl", |out| put_sample_table(out, entry));
            });
        });
    });
}

/// Writes the sample table: in a fragmented file, the sample description alone.
fn put_sample_table(out: &mut BytesMut, entry: impl FnOnce(&mut BytesMut)) {
    put_full_box(out, b"stsd", 0, 0, |out| {
        out.put_u32(1);
        entry(out);
    });
    for kind in [b"stts", b"stsc", b"stco"] {
        put_full_box(out, kind, 0, 0, |out| out.put_u32(0));
    }
    put_full_box(out, b"stsz", 0, 0, |out| out.put_u64(0));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h265::sps::tests::{SAMPLE_MAIN_1080P, SAMPLE_PPS, SAMPLE_VPS};
    use crate::{h264, h265};

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
