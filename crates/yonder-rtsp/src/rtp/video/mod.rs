//! Access unit assembly for H.264 (RFC 6184) and H.265 (RFC 7798).
//!
//! The payload formats differ ([`super::h264`], [`super::h265`]); the assembly of NAL units and the handling of packet
//! loss are the same.

use bytes::Bytes;
use smallvec::SmallVec;
use yonder_media::{BlockWriter, NalRole, VideoCodec, h264, h265};

use super::packet::RtpPacket;
use super::payload::{DropCounts, Piece, Refusal};

/// Maximum size of an access unit. A 4K keyframe at a very high rate is under 4 MB.
const MAX_UNIT_BYTES: usize = 8 * 1024 * 1024;
/// Maximum time, in ticks of 90 kHz, by which a leading picture precedes its random access point in output order: two
/// seconds. Beyond it the camera's clock has jumped.
const MAX_LEADING_TICKS: u32 = 180_000;
/// Maximum NAL units in an access unit; 8K frames with one slice per macroblock row have 270.
const MAX_UNIT_NALS: usize = 1024;

/// Payload format of a video track.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VideoFormat {
    /// RFC 6184, single NAL unit mode and non-interleaved mode.
    H264,
    /// RFC 7798.
    H265 {
        /// Packets contain decoding order numbers (`sprop-max-don-diff` above 0).
        order_numbers: bool,
    },
}

impl VideoFormat {
    fn role(self, nal: &[u8]) -> NalRole {
        match self {
            Self::H264 => h264::role_of(nal),
            Self::H265 { .. } => h265::role_of(nal),
        }
    }

    fn is_sequence_set(self, nal: &[u8]) -> bool {
        match self {
            Self::H264 => h264::kind_of(nal) == h264::NalKind::Sps,
            Self::H265 { .. } => h265::kind_of(nal) == h265::NalKind::Sps,
        }
    }

    /// Returns true for a random access point that may have leading pictures: not for an IDR picture of H.264.
    fn has_leading_pictures(self, nals: &[Bytes]) -> bool {
        match self {
            Self::H264 => !nals.iter().any(|nal| h264::kind_of(nal) == h264::NalKind::IdrSlice),
            Self::H265 { .. } => true,
        }
    }

    /// Returns true for a picture that may refer to pictures before the random access point with RTP time `begin`.
    /// H.265 marks such pictures (RASL, ITU-T H.265, 3.111). In H.264, any picture with an earlier output time than a
    /// recovery point may be one.
    fn is_undecodable_leading(self, nals: &[Bytes], timestamp: u32, begin: u32) -> bool {
        match self {
            Self::H264 => (1..MAX_LEADING_TICKS).contains(&begin.wrapping_sub(timestamp)),
            Self::H265 { .. } => {
                nals.iter().any(|nal| matches!(nal.first().map(|b| b >> 1 & 0x3f), Some(8 | 9)))
            }
        }
    }

    /// Returns the codec.
    #[must_use]
    pub fn codec(self) -> VideoCodec {
        match self {
            Self::H264 => VideoCodec::H264,
            Self::H265 { .. } => VideoCodec::H265,
        }
    }
}

/// Access unit with its RTP time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VideoUnit {
    /// RTP time.
    pub timestamp: u32,
    /// NAL units in decoding order.
    pub nals: Vec<Bytes>,
    /// Decoding can start here.
    pub keyframe: bool,
}

/// Reliability of a camera's marker bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Marker {
    /// Unknown: access units end where the RTP time changes, which costs one frame of delay.
    #[default]
    Unproven,
    /// Markers end access units.
    Trusted,
    /// Markers occur inside access units.
    Distrusted,
}

/// Integrity of the access unit being assembled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Integrity {
    /// Complete so far.
    Whole,
    /// Packets are missing before its first one, which may belong to it.
    HeadUncertain,
    /// A part is missing or invalid.
    Damaged,
}

/// Decodability of the stream at the current position.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Decoding {
    /// No random access point yet, and nothing dropped: access units are passed on, and the reader decides.
    Unbegun,
    /// An access unit was lost: those after it depend on it, up to the next random access point.
    Broken,
    /// All reference pictures are available.
    Intact,
    /// Decoding began at the random access point with this RTP time: leading pictures may refer to pictures that were
    /// not received.
    AtOpenGop(u32),
}

/// Assembles access units from packets in order.
///
/// An access unit with a lost piece is dropped, and all that depend on it, up to the next keyframe.
///
/// ```text
///   Unbegun ──keyframe──▶ AtOpenGop ──keyframe──▶ Intact
///      └───loss──▶ Broken ──keyframe──▲   ▲──loss─▶ Broken
/// ```
#[derive(Debug)]
pub struct VideoDepacketizer {
    format: VideoFormat,
    timestamp: Option<u32>,
    nals: Vec<Bytes>,
    bytes: usize,
    /// Fragmented NAL unit being assembled. It is copied out of the receive block, which can then be reused.
    joined: BlockWriter,
    /// [`Self::joined`] contains a fragmented unit whose end has not arrived.
    is_fragmented: bool,
    integrity: Integrity,
    /// Packets are missing before the next one.
    has_gap: bool,
    decoding: Decoding,
    /// The last keyframe included its parameter sets.
    sets_in_band: bool,
    marker: Marker,
    /// RTP time of the last packet, if that had a marker.
    marked: Option<u32>,
    dropped: u64,
    drops: DropCounts,
}

impl VideoDepacketizer {
    /// Creates an assembler.
    #[must_use]
    pub fn new(format: VideoFormat) -> Self {
        Self {
            format,
            timestamp: None,
            nals: Vec::new(),
            bytes: 0,
            joined: BlockWriter::default(),
            is_fragmented: false,
            integrity: Integrity::Whole,
            has_gap: false,
            decoding: Decoding::Unbegun,
            sets_in_band: false,
            marker: Marker::Unproven,
            marked: None,
            dropped: 0,
            drops: DropCounts::default(),
        }
    }

    /// Returns the payload format.
    #[must_use]
    pub fn format(&self) -> VideoFormat {
        self.format
    }

    /// Returns the access units dropped because of packet loss, or because they depend on a dropped one.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Returns the parts of packets that were dropped, by reason.
    #[must_use]
    pub fn drops(&self) -> DropCounts {
        self.drops
    }

    /// Handles a gap before the next packet.
    pub fn handle_loss(&mut self) {
        self.has_gap = true;
        self.decoding = Decoding::Broken;
    }

    /// Resets the state after a restart of the camera.
    pub fn restart(&mut self) {
        let fresh = Self::new(self.format);
        *self = Self {
            dropped: self.dropped,
            drops: self.drops,
            marker: self.marker,
            decoding: Decoding::Broken,
            ..fresh
        };
    }

    /// Handles a packet and returns the access units that it completes, at most two.
    pub fn handle_packet<P: AsRef<[u8]>>(&mut self, packet: &RtpPacket<P>) -> SmallVec<[VideoUnit; 2]> {
        let mut units = SmallVec::new();
        let has_gap = std::mem::take(&mut self.has_gap);
        if has_gap {
            // The current access unit lacks its end or a part of its middle.
            self.integrity = Integrity::Damaged;
        }
        if self.timestamp != Some(packet.timestamp) {
            self.judge_marker();
            units.extend(self.close());
            // The very first packet may be from the middle of an access unit.
            let is_uncertain = has_gap || self.timestamp.is_none();
            self.timestamp = Some(packet.timestamp);
            self.integrity = if is_uncertain { Integrity::HeadUncertain } else { Integrity::Whole };
        }
        let continues = self.marked == Some(packet.timestamp);
        self.marked = None;
        let before = self.nals.len();
        self.take_payload(packet.payload.as_ref());
        if continues && (self.is_fragmented || self.has_picture_from(before)) {
            self.note_false_marker();
        }
        if packet.marker {
            self.marked = Some(packet.timestamp);
            // A fragmented unit has not ended: the next packet shows whether its end bit or the marker is wrong.
            if self.marker == Marker::Trusted && !self.is_fragmented {
                units.extend(self.close());
            }
        }
        units
    }

    /// Evaluates the markers at a change of RTP time: a reliable camera sets one on the last packet, and none earlier.
    fn judge_marker(&mut self) {
        if self.marker == Marker::Unproven && self.marked.is_some() {
            self.marker = Marker::Trusted;
        }
    }

    /// Handles a packet of an access unit that a marker has ended: markers of this camera are not reliable.
    fn note_false_marker(&mut self) {
        if self.marker == Marker::Trusted {
            // The beginning has already been passed on as a complete access unit.
            self.integrity = Integrity::Damaged;
            self.decoding = Decoding::Broken;
        }
        self.marker = Marker::Distrusted;
    }

    fn has_picture_from(&self, at: usize) -> bool {
        self.nals.iter().skip(at).any(|nal| matches!(self.format.role(nal), NalRole::Picture { .. }))
    }

    /// Ends the current access unit, if it contains a picture. Parameter sets alone wait for their picture.
    fn close(&mut self) -> Option<VideoUnit> {
        if self.integrity == Integrity::Damaged {
            self.is_fragmented = false;
        }
        self.end_fragments();
        let timestamp = self.timestamp?;
        let has_picture = self.has_picture_from(0);
        if !has_picture && self.integrity != Integrity::Damaged {
            return None;
        }
        let nals = std::mem::take(&mut self.nals);
        self.bytes = 0;
        let is_usable = match std::mem::replace(&mut self.integrity, Integrity::Whole) {
            Integrity::Whole => true,
            Integrity::HeadUncertain => self.begins_access_unit(&nals),
            Integrity::Damaged => false,
        };
        if !is_usable {
            self.decoding = Decoding::Broken;
            self.dropped += u64::from(has_picture);
            return None;
        }
        let keyframe = self.format.codec().is_random_access(&nals);
        if !self.is_decodable(timestamp, &nals, keyframe) {
            self.dropped += 1;
            return None;
        }
        Some(VideoUnit { timestamp, nals, keyframe })
    }

    /// Returns true for NAL units that begin an access unit although packets before them are missing.
    fn begins_access_unit(&self, nals: &[Bytes]) -> bool {
        let first = nals.iter().map(|nal| self.format.role(nal)).find(|role| !matches!(role, NalRole::Other));
        let begins = matches!(first, Some(NalRole::Prefix | NalRole::Picture { begins: true }));
        let lacks_sets = self.sets_in_band && !nals.iter().any(|nal| self.format.is_sequence_set(nal));
        begins && !lacks_sets
    }

    /// Returns true for a complete access unit whose reference pictures are available. Advances the decoding state.
    fn is_decodable(&mut self, timestamp: u32, nals: &[Bytes], keyframe: bool) -> bool {
        if keyframe {
            self.decoding = match self.decoding {
                Decoding::Unbegun | Decoding::Broken if self.format.has_leading_pictures(nals) => {
                    Decoding::AtOpenGop(timestamp)
                }
                _ => Decoding::Intact,
            };
            self.sets_in_band = nals.iter().any(|nal| self.format.is_sequence_set(nal));
            return true;
        }
        match self.decoding {
            Decoding::Unbegun | Decoding::Intact => true,
            Decoding::Broken => false,
            Decoding::AtOpenGop(begin) => !self.format.is_undecodable_leading(nals, timestamp, begin),
        }
    }

    fn take_payload(&mut self, payload: &[u8]) {
        let format = self.format;
        let read = match format {
            VideoFormat::H264 => super::h264::read(payload, |piece| self.take_piece(piece)),
            VideoFormat::H265 { order_numbers } => {
                super::h265::read(payload, order_numbers, |piece| self.take_piece(piece))
            }
        };
        if let Err(refusal) = read {
            self.drops.count(refusal);
            if refusal != Refusal::Ignored {
                self.integrity = Integrity::Damaged;
            }
        }
    }

    fn take_piece(&mut self, piece: Piece<'_>) {
        match piece {
            Piece::Whole(nal) => self.take_nal(&[], nal),
            Piece::WholeInParts(header, rest) => self.take_nal(&header, rest),
            Piece::Begin(header, data) => {
                self.end_fragments();
                self.is_fragmented = true;
                self.joined.clear();
                self.joined.push(header.as_bytes());
                self.take_fragment(data);
            }
            Piece::Middle(data) => self.take_fragment(data),
            Piece::End => {
                if std::mem::take(&mut self.is_fragmented) {
                    self.keep_joined();
                }
            }
        }
    }

    /// Adds a complete NAL unit, as header and remaining bytes; the header may be empty.
    fn take_nal(&mut self, header: &[u8], rest: &[u8]) {
        if header.is_empty() && rest.is_empty() {
            return;
        }
        self.end_fragments();
        self.joined.clear();
        self.joined.push(header);
        self.joined.push(rest);
        self.keep_joined();
    }

    fn take_fragment(&mut self, data: &[u8]) {
        if !self.is_fragmented {
            self.drops.headless += 1;
            self.integrity = Integrity::Damaged;
            return;
        }
        if self.joined.len() + data.len() > MAX_UNIT_BYTES {
            self.is_fragmented = false;
            self.drops.too_large += 1;
            self.integrity = Integrity::Damaged;
            // Release a buffer that an invalid unit has enlarged.
            self.joined = BlockWriter::default();
            return;
        }
        self.joined.push(data);
    }

    /// Ends a fragmented unit without an end bit: the next unit, or the end of the access unit, shows that it is
    /// complete if no packet is missing.
    fn end_fragments(&mut self) {
        if std::mem::take(&mut self.is_fragmented) {
            self.drops.unterminated += 1;
            self.keep_joined();
        }
    }

    fn keep_joined(&mut self) {
        let nal = self.joined.finish();
        self.bytes += nal.len();
        if self.bytes > MAX_UNIT_BYTES || self.nals.len() >= MAX_UNIT_NALS {
            self.nals.clear();
            self.bytes = 0;
            self.drops.too_large += 1;
            self.integrity = Integrity::Damaged;
            return;
        }
        self.nals.push(nal);
    }
}

#[cfg(test)]
mod tests;
