//! Initialization segment (ISO/IEC 14496-12, 8.2; ISO/IEC 14496-15, 5.4 and 8.4).

use bytes::{BufMut, Bytes, BytesMut};

use crate::stream::{AudioConfig, StreamHeaders, VideoCodec, VideoConfig};
use crate::ticks::TICKS_PER_SECOND;

use super::boxes::{put_box, put_full_box};
use super::{AUDIO_TRACK, VIDEO_TRACK};

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
