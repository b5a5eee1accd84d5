//! From the payloads of H.264 (RFC 6184) and H.265 (RFC 7798) packets to access units.
//!
//! The two formats differ in how a packet holds NAL units ([`super::h264`], [`super::h265`]); how units become
//! pictures, and what a lost packet costs, is the same for both and is here.

use bytes::Bytes;
use smallvec::SmallVec;
use yonder_media::{BlockWriter, NalRole, VideoCodec, h264, h265};

use super::packet::RtpPacket;
use super::payload::{DropCounts, Piece, Refusal};

/// Largest access unit assembled. A 4K keyframe at a very high rate stays under 4 MB.
const MAX_UNIT_BYTES: usize = 8 * 1024 * 1024;
/// Longest time by which a picture precedes on screen a random access point that it follows in the stream, in ticks of 90 kHz: two
/// seconds. Beyond that the camera's clock has jumped.
const MAX_LEADING_TICKS: u32 = 180_000;
/// Most NAL units in one access unit; 8K pictures of one slice per macroblock row have 270.
const MAX_UNIT_NALS: usize = 1024;

/// How a track's packets hold NAL units.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PictureFormat {
    /// RFC 6184, single NAL unit mode and non-interleaved mode.
    H264,
    /// RFC 7798.
    H265 {
        /// Decoding order numbers are in the packets (`sprop-max-don-diff` above 0).
        order_numbers: bool,
    },
}

impl PictureFormat {
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

    /// Returns true for a random access point that pictures after it may precede on screen: an IDR picture of H.264 has none.
    fn has_leading_pictures(self, nals: &[Bytes]) -> bool {
        match self {
            Self::H264 => !nals.iter().any(|nal| h264::kind_of(nal) == h264::NalKind::IdrSlice),
            Self::H265 { .. } => true,
        }
    }

    /// Returns true for a picture that may refer to pictures before the random access point with the RTP time `begin`. H.265 marks
    /// such pictures (RASL, ITU-T H.265, 3.111). In H.264 each picture that is shown before a recovery point may be one.
    fn is_undecodable_leading(self, nals: &[Bytes], timestamp: u32, begin: u32) -> bool {
        match self {
            Self::H264 => (1..MAX_LEADING_TICKS).contains(&begin.wrapping_sub(timestamp)),
            Self::H265 { .. } => {
                nals.iter().any(|nal| matches!(nal.first().map(|b| b >> 1 & 0x3f), Some(8 | 9)))
            }
        }
    }

    /// Codec.
    #[must_use]
    pub fn codec(self) -> VideoCodec {
        match self {
            Self::H264 => VideoCodec::H264,
            Self::H265 { .. } => VideoCodec::H265,
        }
    }
}

/// One access unit as it came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    /// RTP time.
    pub timestamp: u32,
    /// NAL units in decoding order.
    pub nals: Vec<Bytes>,
    /// Decoding may start here.
    pub keyframe: bool,
}

/// Reliability of a camera's marker bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Marker {
    /// Not known yet: pictures end where the time changes, which costs one frame of delay.
    #[default]
    Unproven,
    /// They end pictures.
    Trusted,
    /// They stand inside pictures as well.
    Distrusted,
}

/// Whether the access unit being assembled can be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Integrity {
    /// No packet of it is missing.
    Whole,
    /// Packets were missing before its first one, which may have belonged to it.
    HeadUncertain,
    /// A part of it is missing or cannot be read.
    Damaged,
}

/// Whether the stream can be decoded at the present place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Decoding {
    /// Nothing has been dropped, and no random access point has come: pictures are passed on, and the reader decides.
    Unbegun,
    /// A picture was lost: those that follow depend on it, up to the next random access point.
    Broken,
    /// Every reference picture is there.
    Intact,
    /// Decoding began at the random access point of this RTP time: pictures that follow it and are shown before it may refer to
    /// pictures that never came.
    AtOpenGop(u32),
}

/// Assembles access units from packets in order.
///
/// A unit with a lost piece is dropped, and so is all that depends on it, up to the next keyframe.
///
/// ```text
///   Unbegun ──keyframe──▶ AtOpenGop ──keyframe──▶ Intact
///      └───loss──▶ Broken ──keyframe──▲   ▲──loss─▶ Broken
/// ```
#[derive(Debug)]
pub struct PictureDepacketiser {
    format: PictureFormat,
    timestamp: Option<u32>,
    nals: Vec<Bytes>,
    bytes: usize,
    /// The NAL unit that is being put together: copied out of the block that the socket was read into, which is then
    /// free for the next read.
    joined: BlockWriter,
    /// [`Self::joined`] is a fragmented one whose end has not come.
    is_fragmented: bool,
    integrity: Integrity,
    /// Packets are missing before the next one.
    has_gap: bool,
    decoding: Decoding,
    /// The last keyframe came with its parameter sets.
    sets_in_band: bool,
    marker: Marker,
    /// The last packet carried a marker, and this was its time.
    marked: Option<u32>,
    dropped: u64,
    drops: DropCounts,
}

impl PictureDepacketiser {
    /// A depacketiser before its first packet.
    #[must_use]
    pub fn new(format: PictureFormat) -> Self {
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

    /// How the packets hold NAL units.
    #[must_use]
    pub fn format(&self) -> PictureFormat {
        self.format
    }

    /// Access units dropped so far because a piece of them, or of what they depend on, was lost.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Parts of packets that were not used, by reason.
    #[must_use]
    pub fn drops(&self) -> DropCounts {
        self.drops
    }

    /// Packets are missing before the next one.
    pub fn handle_loss(&mut self) {
        self.has_gap = true;
        self.decoding = Decoding::Broken;
    }

    /// Resets the state after a restart of the camera: earlier packets do not belong to those that follow.
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
    pub fn handle_packet<P: AsRef<[u8]>>(&mut self, packet: &RtpPacket<P>) -> SmallVec<[Picture; 2]> {
        let mut units = SmallVec::new();
        let has_gap = std::mem::take(&mut self.has_gap);
        if has_gap {
            // The open access unit has lost its end, or a part of its middle.
            self.integrity = Integrity::Damaged;
        }
        if self.timestamp != Some(packet.timestamp) {
            self.judge_marker();
            units.extend(self.close());
            // The first packet of all may be from the middle of a picture.
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
            // A fragmented unit that has not ended: the next packet shows whether its last fragment or the marker is wrong.
            if self.marker == Marker::Trusted && !self.is_fragmented {
                units.extend(self.close());
            }
        }
        units
    }

    /// At a change of time: a marker right before it, and none earlier, is how it should be.
    fn judge_marker(&mut self) {
        if self.marker == Marker::Unproven && self.marked.is_some() {
            self.marker = Marker::Trusted;
        }
    }

    /// More of a picture whose end was marked: this camera's markers mean nothing.
    fn note_false_marker(&mut self) {
        if self.marker == Marker::Trusted {
            // Its beginning has been given away as a whole picture already.
            self.integrity = Integrity::Damaged;
            self.decoding = Decoding::Broken;
        }
        self.marker = Marker::Distrusted;
    }

    fn has_picture_from(&self, at: usize) -> bool {
        self.nals.iter().skip(at).any(|nal| matches!(self.format.role(nal), NalRole::Picture { .. }))
    }

    /// Ends the current access unit, if it holds a picture. Parameter sets on their own wait for theirs.
    fn close(&mut self) -> Option<Picture> {
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
        Some(Picture { timestamp, nals, keyframe })
    }

    /// Returns true for NAL units that are known to be all of their access unit although packets before them are missing.
    fn begins_access_unit(&self, nals: &[Bytes]) -> bool {
        let first = nals.iter().map(|nal| self.format.role(nal)).find(|role| !matches!(role, NalRole::Other));
        let begins = matches!(first, Some(NalRole::Prefix | NalRole::Picture { begins: true }));
        let lacks_sets = self.sets_in_band && !nals.iter().any(|nal| self.format.is_sequence_set(nal));
        begins && !lacks_sets
    }

    /// Returns true for a whole picture whose reference pictures are there as well. Advances the decoding state.
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
            PictureFormat::H264 => super::h264::read(payload, |piece| self.take_piece(piece)),
            PictureFormat::H265 { order_numbers } => {
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

    /// Adds a complete NAL unit, given as header and remaining bytes; the header may be empty.
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
            // A buffer that a camera has made too large is not kept for the next unit.
            self.joined = BlockWriter::default();
            return;
        }
        self.joined.push(data);
    }

    /// Ends a fragmented unit whose last fragment was not marked: the next unit, or the end of the access unit, shows that it is whole,
    /// as long as no packet is missing.
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
