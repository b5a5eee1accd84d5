//! Multiplexer of one program: tables, clock references, and access units as PES packets.
//!
//! Every packet has a time on the transport clock: those of a video frame are spread over its duration, and clock references
//! and tables that are due before the next unit is expected are placed between. A sender that keeps these times sends an even
//! stream instead of a burst per frame.

use bytes::{BufMut, Bytes, BytesMut};
use smallvec::SmallVec;

use crate::aac;
use crate::blocks::BlockWriter;
use crate::stream::{AudioConfig, StreamHeaders, VideoCodec, VideoConfig};
use crate::ticks::of_samples;
use crate::timeline::Timestamps;
use crate::unit::{AccessUnit, Payload, Track};
use crate::{h264, h265};

use super::chunk::{Chunk, PacedRun};
use super::clock::{MAX_PCR_INTERVAL, TransportClock};
use super::packet::{Adaptation, HEADER, PACKET, write_head};
use super::section::{self, ProgramMap, StreamType};
use super::{pes, pes::AUDIO_ID, pes::VIDEO_ID};

const ASSOCIATION_PID: u16 = 0;
const MAP_PID: u16 = 0x1000;
const VIDEO_PID: u16 = 0x100;
const AUDIO_PID: u16 = 0x101;

/// Time from sending a unit to its decoding time, in ticks: room for audio that arrives later than its video, well under the
/// second that decoders must be able to buffer (2.4.2.6).
pub const PREROLL: i64 = 45_000;
/// Maximum time over which a video frame is spread.
const MAX_SPREAD: i64 = MAX_PCR_INTERVAL;
/// Maximum time ahead for which clock references are placed if no unit is expected earlier.
const MAX_FORESIGHT: i64 = 45_000;
/// Maximum span of audio frames in one PES packet: each packet costs its headers and half a transport packet of stuffing.
const AUDIO_BUNDLE: i64 = 5_400;

/// Returns true if a transport stream can carry this audio: AAC, but not G.711, which has no stream type.
#[must_use]
pub fn carries_audio(audio: &AudioConfig) -> bool {
    matches!(audio, AudioConfig::Aac { .. })
}

/// Multiplexer of one program.
#[derive(Debug, Default)]
pub struct Muxer {
    out: BlockWriter,
    runs: SmallVec<[PacedRun; 4]>,
    /// Headers that the program map describes.
    headers: StreamHeaders,
    association: Bytes,
    map: Bytes,
    map_version: u8,
    /// Continuity counters: association table, map, video, audio.
    counters: [u8; 4],
    clock: TransportClock,
    bundle: Bundle,
}

/// Audio frames of the next PES packet.
#[derive(Debug, Default)]
struct Bundle {
    pts: i64,
    /// Headers and frames, alternating.
    pieces: Vec<Bytes>,
    len: usize,
}

impl Muxer {
    /// Returns the packets of one unit of a stream with these headers; none for a unit that cannot be carried.
    pub fn write(&mut self, unit: &AccessUnit, headers: &StreamHeaders) -> Chunk {
        self.write_at(unit, Timestamps { dts: unit.dts, pts: unit.pts }, headers)
    }

    /// Returns the packets of one unit as [`Self::write`] does, with `times` instead of the unit's own timestamps.
    pub fn write_at(&mut self, unit: &AccessUnit, times: Timestamps, headers: &StreamHeaders) -> Chunk {
        let Some(video) = &headers.video else { return Chunk::default() };
        if self.map.is_empty() || self.headers != *headers {
            self.describe(headers, video.codec());
        }
        let begin = match (&unit.payload, &headers.audio) {
            (Payload::Nals(nals), _) => self.write_video(unit, times, nals, video),
            (Payload::Frame(frame), Some(AudioConfig::Aac { facts, .. })) => {
                self.write_audio(times, frame, facts)
            }
            (Payload::Frame(_), _) => return Chunk::default(),
        };
        self.write_until_next_unit();
        Chunk { bytes: self.out.finish(), begin, runs: std::mem::take(&mut self.runs) }
    }

    /// Builds the tables for new headers. A map that differs gets a new version, and is sent at once.
    fn describe(&mut self, headers: &StreamHeaders, codec: VideoCodec) {
        let kind = match codec {
            VideoCodec::H264 => StreamType::H264,
            VideoCodec::H265 => StreamType::H265,
        };
        let mut streams = vec![(kind, VIDEO_PID)];
        if headers.audio.as_ref().is_some_and(carries_audio) {
            streams.push((StreamType::Adts, AUDIO_PID));
        } else {
            self.clock.remove_audio();
        }
        self.association = section::association(MAP_PID, 0);
        let program = ProgramMap { pcr_pid: VIDEO_PID, streams };
        // Another frame size of the same codec does not change the map.
        if !self.map.is_empty() && self.map != section::map(&program, self.map_version) {
            self.map_version = self.map_version.wrapping_add(1) & 0x1f;
        }
        self.map = section::map(&program, self.map_version);
        self.headers = headers.clone();
        self.clock.request_tables();
    }

    fn write_video(
        &mut self,
        unit: &AccessUnit,
        times: Timestamps,
        nals: &[Bytes],
        video: &VideoConfig,
    ) -> i64 {
        let clock = self.begin_unit(Track::Video, times.dts, None);
        if unit.keyframe || self.clock.are_tables_requested() {
            self.put_tables(clock);
        }
        let spread = self.clock.spread(Track::Video, MAX_SPREAD);
        let mut pieces = Vec::with_capacity(2 * nals.len() + 8);
        pieces.push(pes::header(VIDEO_ID, times.pts + PREROLL, times.dts + PREROLL, 0));
        for nal in annex_b(unit, nals, video) {
            pieces.push(Bytes::from_static(&[0, 0, 0, 1]));
            pieces.push(nal);
        }
        self.put_payload(VIDEO_PID, &pieces, (clock, spread), unit.keyframe);
        clock
    }

    fn write_audio(&mut self, times: Timestamps, frame: &Bytes, facts: &aac::AudioSpecificConfig) -> i64 {
        let duration = frame_ticks(facts);
        let clock = self.begin_unit(Track::Audio, times.dts, Some(duration));
        let Some(adts) = aac::adts_header(facts, frame.len()) else { return clock };
        // A bundle has the time of its first frame only, so a frame after a gap begins a new bundle.
        let frames = i64::try_from(self.bundle.pieces.len() / 2).unwrap_or_default();
        let follows = self.bundle.pts + frames * duration;
        if frames > 0 && (times.pts - follows).abs() > duration / 2 {
            self.flush_audio(clock);
        }
        if self.bundle.pieces.is_empty() {
            self.bundle.pts = times.pts;
        }
        self.bundle.len += adts.len() + frame.len();
        self.bundle.pieces.extend([adts, frame.clone()]);
        if times.pts + duration - self.bundle.pts >= AUDIO_BUNDLE {
            self.flush_audio(clock);
        }
        clock
    }

    fn flush_audio(&mut self, clock: i64) {
        if self.clock.are_tables_requested() {
            self.put_tables(clock);
        }
        let Bundle { pts, mut pieces, len } = std::mem::take(&mut self.bundle);
        pieces.insert(0, pes::header(AUDIO_ID, pts + PREROLL, pts + PREROLL, len));
        self.put_payload(AUDIO_PID, &pieces, (clock, 0), true);
    }

    /// Moves the clock to a unit. Clock references that were due before it, because it came later than expected, are
    /// sent with it.
    fn begin_unit(&mut self, track: Track, dts: i64, duration: Option<i64>) -> i64 {
        let clock = self.clock.begin_unit(track, dts, duration);
        while let Some(due) = self.clock.pcr_due_before(clock) {
            if clock - due > super::clock::GAP {
                break;
            }
            self.put_pcr(due, clock);
        }
        clock
    }

    /// Writes the clock references and tables that are due before the next unit is expected.
    fn write_until_next_unit(&mut self) {
        let Some(until) = self.clock.next_unit(MAX_FORESIGHT) else { return };
        while let Some(due) = self.clock.pcr_due_before(until) {
            self.put_pcr(due, due);
            self.clock.advance(due);
        }
    }

    /// Writes a clock reference with the value `clock`, to be sent at `begin`, and tables that are due.
    fn put_pcr(&mut self, clock: i64, begin: i64) {
        if self.clock.are_tables_due(clock) {
            self.put_tables(clock);
            if let Some(run) = self.runs.last_mut() {
                run.begin = begin;
            }
        }
        let Some(pcr) = self.clock.take_pcr(clock, 0, true) else { return };
        // A packet without payload repeats the last counter (2.4.3.3).
        let counter = self.counters.get(2).copied().unwrap_or_default().wrapping_sub(1) & 0x0f;
        let adaptation = Adaptation { random_access: false, pcr: Some(pcr) };
        write_head(self.out.room(PACKET), VIDEO_PID, (false, counter), adaptation, 0);
        self.runs.push(PacedRun { packets: 1, begin, span: 0 });
    }

    fn put_tables(&mut self, clock: i64) {
        self.clock.set_tables(clock);
        for (pid, section) in [(ASSOCIATION_PID, self.association.clone()), (MAP_PID, self.map.clone())] {
            let counter = self.count(pid);
            let out = self.out.room(PACKET);
            let before = out.len();
            write_head(out, pid, (true, counter), Adaptation::default(), PACKET - HEADER);
            out.put_u8(0); // pointer_field
            out.put_slice(&section);
            // Sections are followed by stuffing up to the end of the packet (2.4.4).
            let stuffing = (before + PACKET).saturating_sub(out.len());
            out.put_bytes(0xff, stuffing);
        }
        self.runs.push(PacedRun { packets: 2, begin: clock, span: 0 });
    }

    /// Returns the continuity counter of a packet with payload, and advances it.
    fn count(&mut self, pid: u16) -> u8 {
        let slot = match pid {
            ASSOCIATION_PID => 0,
            MAP_PID => 1,
            VIDEO_PID => 2,
            _ => 3,
        };
        let Some(counter) = self.counters.get_mut(slot) else { return 0 };
        let current = *counter;
        *counter = current.wrapping_add(1) & 0x0f;
        current
    }

    /// Writes one PES packet, spread over `span` ticks from `begin` on.
    fn put_payload(&mut self, pid: u16, pieces: &[Bytes], (begin, span): (i64, i64), random_access: bool) {
        let mut left: usize = pieces.iter().map(Bytes::len).sum();
        let estimate = left.div_ceil(PACKET - HEADER).max(1);
        self.out.room((estimate + 2) * PACKET);
        let step = span / i64::try_from(estimate).unwrap_or(1).max(1);
        let mut source = Pieces::new(pieces);
        let (mut packets, mut run) = (0_i64, PacedRun { packets: 0, begin, span: 0 });
        let mut clock = begin;
        while left > 0 {
            let first = packets == 0;
            let mut adaptation = Adaptation { random_access: first && random_access, pcr: None };
            if pid == VIDEO_PID {
                adaptation.pcr = self.clock.take_pcr(clock, step, first);
            }
            if adaptation.pcr.is_some() && self.clock.are_tables_due(clock) {
                self.runs.extend(Some(run).filter(|run| run.packets > 0));
                self.put_tables(clock);
                run = PacedRun { packets: 0, begin: clock, span: 0 };
            }
            let take = left.min(PACKET - HEADER - adaptation.len());
            let counter = self.count(pid);
            let out = self.out.room(PACKET);
            write_head(out, pid, (first, counter), adaptation, take);
            source.copy(out, take);
            left -= take;
            packets += 1;
            clock = (begin + step * packets).min(begin + span);
            run.packets += 1;
            run.span = clock - run.begin;
        }
        self.clock.advance(begin + span);
        run.span = begin + span - run.begin;
        self.runs.push(run);
    }
}

/// Returns the duration of an audio frame, in ticks.
fn frame_ticks(facts: &aac::AudioSpecificConfig) -> i64 {
    of_samples(i64::from(aac::SAMPLES_PER_FRAME), facts.sample_rate)
}

/// Returns the NAL units of a video frame in the byte stream format: an access unit delimiter (required by 2.14.1 and
/// 2.17.1), parameter sets before a random access point, then the frame's NAL units.
fn annex_b<'a>(
    unit: &AccessUnit,
    nals: &'a [Bytes],
    video: &'a VideoConfig,
) -> impl Iterator<Item = Bytes> + 'a {
    let codec = video.codec();
    let own = nals.iter().find(|nal| is_delimiter(codec, nal)).cloned();
    let wants_sets = unit.keyframe && !nals.iter().any(|nal| is_sequence_set(codec, nal));
    let sets = video.parameter_sets().filter(move |_| wants_sets).cloned();
    let rest = nals.iter().filter(move |nal| !is_delimiter(codec, nal)).cloned();
    std::iter::once(own.unwrap_or_else(|| delimiter(codec))).chain(sets).chain(rest)
}

/// Returns a delimiter that allows all slice types (`primary_pic_type` 7, `pic_type` 2).
fn delimiter(codec: VideoCodec) -> Bytes {
    match codec {
        VideoCodec::H264 => Bytes::from_static(&[0x09, 0xf0]),
        VideoCodec::H265 => Bytes::from_static(&[0x46, 0x01, 0x50]),
    }
}

fn is_delimiter(codec: VideoCodec, nal: &[u8]) -> bool {
    match codec {
        VideoCodec::H264 => h264::kind_of(nal) == h264::NalKind::Delimiter,
        VideoCodec::H265 => h265::kind_of(nal) == h265::NalKind::Delimiter,
    }
}

fn is_sequence_set(codec: VideoCodec, nal: &[u8]) -> bool {
    match codec {
        VideoCodec::H264 => h264::kind_of(nal) == h264::NalKind::Sps,
        VideoCodec::H265 => h265::kind_of(nal) == h265::NalKind::Sps,
    }
}

/// Reader over several slices.
struct Pieces<'a> {
    pieces: std::slice::Iter<'a, Bytes>,
    current: &'a [u8],
}

impl<'a> Pieces<'a> {
    fn new(pieces: &'a [Bytes]) -> Self {
        Self { pieces: pieces.iter(), current: &[] }
    }

    fn copy(&mut self, out: &mut BytesMut, mut count: usize) {
        while count > 0 {
            if self.current.is_empty() {
                let Some(next) = self.pieces.next() else { return };
                self.current = next;
            }
            let (now, later) = self.current.split_at_checked(count).unwrap_or((self.current, &[]));
            out.put_slice(now);
            count -= now.len();
            self.current = later;
        }
    }
}
