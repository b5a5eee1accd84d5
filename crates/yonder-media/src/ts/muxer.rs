//! Writes one program: tables, clock references, and access units as PES packets.
//!
//! The muxer lays every packet on the relay's clock: a picture's packets are spread over the time until the next
//! picture, and the clock references that fall due on the way are put where they belong. Whoever sends the
//! packets keeps that spacing, so that a receiver sees an even stream and not a burst per picture.

use bytes::{BufMut, Bytes, BytesMut};
use smallvec::SmallVec;

use crate::aac;
use crate::blocks::BlockWriter;
use crate::stream::{AudioConfig, StreamHeaders, VideoCodec, VideoConfig};
use crate::timeline::Timestamps;
use crate::unit::{AccessUnit, Payload, TICKS_PER_SECOND};
use crate::{h264, h265};

use super::packet::{Adaptation, HEADER, PACKET, write_head};
use super::section::{self, ProgramMap, StreamType};
use super::{pes, pes::AUDIO_ID, pes::VIDEO_ID};

const ASSOCIATION_PID: u16 = 0;
const MAP_PID: u16 = 0x1000;
const VIDEO_PID: u16 = 0x100;
const AUDIO_PID: u16 = 0x101;

/// How long before its decoding time a unit is sent, in ticks of 90 kHz: room for sound that comes later than
/// its picture, well under the second that decoders must be able to hold (2.4.2.6).
pub const LEAD: i64 = 45_000;
/// Tables are repeated within 100 ms.
const TABLES_EVERY: i64 = 9_000;
/// Clock references: 40 ms at most (DVB asks for that; 2.7.2 allows 100).
const PCR_EVERY: i64 = 3_600;
/// A picture is spread over its own duration, and over no more than this: what comes late is of no use.
const LONGEST_SPREAD: i64 = 3_600;
/// Clock references are laid out this far beyond a unit when nothing else is expected.
const LONGEST_FORESIGHT: i64 = 45_000;
/// Packets this far apart in time do not share a datagram.
const APART: i64 = 1_800;
/// Duration taken before two units of a track are known.
const FIRST_DURATION: i64 = 3_000;
/// Frames of sound are sent together up to this span: each PES packet costs its headers and half a packet of
/// stuffing, and sound is there long before it is needed.
const SOUND_BUNDLE: i64 = 5_400;
/// A unit that is this far from the clock begins a new stretch of it: there was a hole, or a jump.
const HOLE: i64 = 90_000;

/// A stretch of packets with even spacing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// Packets in it.
    pub packets: usize,
    /// Clock at its first packet, in ticks.
    pub begin: i64,
    /// Ticks from its first packet to the one after its last.
    pub span: i64,
}

/// The packets of one unit, and when each is to be sent.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Chunk {
    /// Whole packets.
    pub bytes: Bytes,
    /// Their spacing, in order.
    pub runs: SmallVec<[Run; 4]>,
}

impl Chunk {
    /// Returns the packets in groups of at most `group`, each with the clock at its first packet. Packets of a clearly later time
    /// begin a group of their own: a clock reference must not arrive before its time.
    pub fn groups(&self, group: usize) -> impl Iterator<Item = (i64, Bytes)> {
        let mut clocks = self
            .runs
            .iter()
            .flat_map(|run| {
                let packets = i64::try_from(run.packets).unwrap_or(1).max(1);
                (0..packets).map(move |within| run.begin + run.span * within / packets)
            })
            .peekable();
        let mut from = 0;
        std::iter::from_fn(move || {
            let begin = clocks.next()?;
            let mut packets = 1;
            while packets < group.max(1) && clocks.next_if(|clock| clock - begin < APART).is_some() {
                packets += 1;
            }
            let to = from + packets * PACKET;
            let bytes = self.bytes.slice(from.min(self.bytes.len())..to.min(self.bytes.len()));
            from = to;
            Some((begin, bytes))
        })
    }
}

/// True when a transport stream can carry this sound: AAC can, G.711 has no stream type.
#[must_use]
pub fn carries_sound(audio: &AudioConfig) -> bool {
    matches!(audio, AudioConfig::Aac { .. })
}

/// Times of a track's units, to foresee the next.
#[derive(Debug, Clone, Copy)]
struct Pace {
    last: Option<i64>,
    duration: i64,
}

impl Pace {
    fn note(&mut self, dts: i64) {
        if let Some(last) = self.last.replace(dts) {
            let step = dts - last;
            if (1..HOLE).contains(&step) {
                self.duration = step;
            }
        }
    }

    fn next(self) -> i64 {
        self.last.map_or(i64::MAX, |last| last + self.duration)
    }
}

impl Default for Pace {
    fn default() -> Self {
        Self { last: None, duration: FIRST_DURATION }
    }
}

/// The writer of one program.
#[derive(Debug, Default)]
pub struct Muxer {
    out: BlockWriter,
    runs: SmallVec<[Run; 4]>,
    /// Headers that the map describes.
    headers: StreamHeaders,
    association: Bytes,
    map: Bytes,
    map_version: u8,
    /// Continuity counters: association, map, picture, sound.
    counters: [u8; 4],
    clock: Option<i64>,
    tables_at: Option<i64>,
    pcr_at: Option<i64>,
    video: Pace,
    audio: Pace,
    bundle: Bundle,
}

/// Frames of sound that wait to be sent together.
#[derive(Debug, Default)]
struct Bundle {
    pts: i64,
    /// Headers and frames in turn.
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
        match (&unit.payload, &headers.audio) {
            (Payload::Nals(nals), _) => self.write_picture(unit, times, nals, video),
            (Payload::Frame(frame), Some(AudioConfig::Aac { facts, .. })) => {
                self.write_sound(times, frame, facts);
            }
            (Payload::Frame(_), _) => return Chunk::default(),
        }
        self.foresee();
        Chunk { bytes: self.out.finish(), runs: std::mem::take(&mut self.runs) }
    }

    /// A change of headers is a new version of the map, sent at once.
    fn describe(&mut self, headers: &StreamHeaders, codec: VideoCodec) {
        let kind = match codec {
            VideoCodec::H264 => StreamType::H264,
            VideoCodec::H265 => StreamType::H265,
        };
        let mut streams = vec![(kind, VIDEO_PID)];
        if headers.audio.as_ref().is_some_and(carries_sound) {
            streams.push((StreamType::Adts, AUDIO_PID));
        } else {
            self.audio = Pace::default();
        }
        self.association = section::association(MAP_PID, 0);
        let program = ProgramMap { pcr_pid: VIDEO_PID, streams };
        // Another picture of the same codec is no other program.
        if !self.map.is_empty() && self.map != section::map(&program, self.map_version) {
            self.map_version = self.map_version.wrapping_add(1) & 0x1f;
        }
        self.map = section::map(&program, self.map_version);
        self.headers = headers.clone();
        self.tables_at = None;
    }

    /// The clock never steps back, and follows the units from hole to hole.
    fn begin_at(&mut self, dts: i64) -> i64 {
        let clock = match self.clock {
            Some(clock) if (-HOLE..HOLE).contains(&(dts - clock)) => clock.max(dts),
            Some(clock) if dts < clock => clock,
            _ => dts,
        };
        self.clock = Some(clock);
        clock
    }

    fn write_picture(&mut self, unit: &AccessUnit, times: Timestamps, nals: &[Bytes], video: &VideoConfig) {
        self.video.note(times.dts);
        let clock = self.begin_at(times.dts);
        if unit.keyframe {
            self.tables_at = None;
        }
        let spread = self.video.duration.min(LONGEST_SPREAD);
        let spread = spread.min((times.dts + spread - clock).max(0));
        self.put_tables(clock, clock + spread);
        let mut pieces = Vec::with_capacity(2 * nals.len() + 8);
        pieces.push(pes::header(VIDEO_ID, times.pts + LEAD, times.dts + LEAD, 0));
        for nal in annex_b(unit, nals, video) {
            pieces.push(Bytes::from_static(&[0, 0, 0, 1]));
            pieces.push(nal);
        }
        self.put_payload(VIDEO_PID, &pieces, (clock, spread), unit.keyframe);
    }

    fn write_sound(&mut self, times: Timestamps, frame: &Bytes, facts: &aac::AudioSpecificConfig) {
        self.audio.last = Some(times.dts);
        self.audio.duration = frame_ticks(facts);
        let Some(adts) = aac::adts_header(facts, frame.len()) else { return };
        // Times are told for the first frame of a bundle only: one that does not follow begins another.
        let frames = i64::try_from(self.bundle.pieces.len() / 2).unwrap_or_default();
        let follows = self.bundle.pts + frames * self.audio.duration;
        if frames > 0 && (times.pts - follows).abs() > self.audio.duration / 2 {
            self.flush_sound(times.dts);
        }
        if self.bundle.pieces.is_empty() {
            self.bundle.pts = times.pts;
        }
        self.bundle.len += adts.len() + frame.len();
        self.bundle.pieces.extend([adts, frame.clone()]);
        if times.pts + self.audio.duration - self.bundle.pts >= SOUND_BUNDLE {
            self.flush_sound(times.dts);
        }
    }

    fn flush_sound(&mut self, dts: i64) {
        let Bundle { pts, mut pieces, len } = std::mem::take(&mut self.bundle);
        pieces.insert(0, pes::header(AUDIO_ID, pts + LEAD, pts + LEAD, len));
        let clock = self.begin_at(dts);
        self.put_tables(clock, clock);
        self.put_due_pcr(clock);
        self.put_payload(AUDIO_PID, &pieces, (clock, 0), true);
    }

    /// Clock references, and tables, until the next unit is expected.
    fn foresee(&mut self) {
        let Some(clock) = self.clock else { return };
        let until = self.video.next().min(self.next_sound()).min(clock + LONGEST_FORESIGHT);
        while let Some(due) = self.pcr_at.map(|at| at + PCR_EVERY).filter(|due| *due < until) {
            let due = due.max(clock);
            self.clock = Some(due);
            self.put_tables(due, due);
            self.put_pcr_only(due);
        }
    }

    /// When sound is sent next: the frame that completes a bundle sends it.
    fn next_sound(&self) -> i64 {
        let begins = if self.bundle.pieces.is_empty() { self.audio.next() } else { self.bundle.pts };
        begins.saturating_add(SOUND_BUNDLE - self.audio.duration)
    }

    /// Puts tables that are due now, or would be late by the next unit; what is written now keeps the stream busy
    /// until `busy_until`.
    fn put_tables(&mut self, clock: i64, busy_until: i64) {
        // They come with units: what would be late by the next one comes with this.
        let next = self.video.next().min(self.next_sound()).clamp(busy_until, clock + LONGEST_SPREAD);
        if self.tables_at.is_some_and(|at| next + PCR_EVERY / 4 - at < TABLES_EVERY) {
            return;
        }
        self.tables_at = Some(clock);
        for (pid, section) in [(ASSOCIATION_PID, self.association.clone()), (MAP_PID, self.map.clone())] {
            let counter = self.count(pid);
            let out = self.out.room(PACKET);
            let before = out.len();
            write_head(out, pid, (true, counter), Adaptation::default(), PACKET - HEADER);
            out.put_u8(0); // pointer_field
            out.put_slice(&section);
            // Sections are followed by stuffing up to the packet's end (2.4.4).
            let stuffing = (before + PACKET).saturating_sub(out.len());
            out.put_bytes(0xff, stuffing);
        }
        self.runs.push(Run { packets: 2, begin: clock, span: 0 });
    }

    fn put_due_pcr(&mut self, clock: i64) {
        if self.pcr_at.is_none_or(|at| clock - at >= PCR_EVERY) {
            self.put_pcr_only(clock);
        }
    }

    /// A packet without payload does not count on (2.4.3.3).
    fn put_pcr_only(&mut self, clock: i64) {
        self.pcr_at = Some(clock);
        let counter = self.counters.get(2).copied().unwrap_or_default().wrapping_sub(1) & 0x0f;
        let adaptation = Adaptation { random_access: false, pcr: Some(clock) };
        write_head(self.out.room(PACKET), VIDEO_PID, (false, counter), adaptation, 0);
        self.runs.push(Run { packets: 1, begin: clock, span: 0 });
    }

    /// The counter of a packet with payload.
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

    /// One PES packet, spread over `span` ticks from `begin` on.
    fn put_payload(&mut self, pid: u16, pieces: &[Bytes], (begin, span): (i64, i64), random_access: bool) {
        let mut left: usize = pieces.iter().map(Bytes::len).sum();
        let estimate = left.div_ceil(PACKET - HEADER).max(1);
        self.out.room((estimate + 2) * PACKET);
        let step = span / i64::try_from(estimate).unwrap_or(1).max(1);
        let mut source = Pieces::new(pieces);
        let mut packets = 0;
        let mut clock = begin;
        while left > 0 {
            let first = packets == 0;
            let mut adaptation = Adaptation { random_access: first && random_access, pcr: None };
            let pcr_due = self.pcr_at.is_none_or(|at| clock - at >= PCR_EVERY);
            if pid == VIDEO_PID && (pcr_due || first) {
                adaptation.pcr = Some(clock);
                self.pcr_at = Some(clock);
            }
            let take = left.min(PACKET - HEADER - adaptation.len());
            let counter = self.count(pid);
            let out = self.out.room(PACKET);
            write_head(out, pid, (first, counter), adaptation, take);
            source.copy(out, take);
            left -= take;
            packets += 1;
            clock = (begin + step * i64::try_from(packets).unwrap_or_default()).min(begin + span);
        }
        self.clock = Some(begin + span);
        self.runs.push(Run { packets, begin, span });
    }
}

/// What a frame of sound lasts, in ticks.
fn frame_ticks(facts: &aac::AudioSpecificConfig) -> i64 {
    TICKS_PER_SECOND * i64::from(aac::SAMPLES_PER_FRAME) / i64::from(facts.sample_rate.max(1))
}

/// The units of a picture in the byte stream format: a delimiter first (2.14.1, 2.17.1 want one), parameter
/// sets before a picture at which decoding may start, then the picture's own units.
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

/// A delimiter that allows any kind of slice (`primary_pic_type` 7, `pic_type` 2).
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

/// Reads across pieces.
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
