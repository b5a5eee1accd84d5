//! Pieces of NAL units in RTP payloads, and reasons for payloads that are not used.

/// Piece of a NAL unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Piece<'a> {
    /// Complete NAL unit.
    Whole(&'a [u8]),
    /// Complete NAL unit whose header is separate from the rest.
    WholeInParts([u8; 2], &'a [u8]),
    /// First fragment of a NAL unit, without its header.
    Begin(Header, &'a [u8]),
    /// Further fragment.
    Middle(&'a [u8]),
    /// End of the last fragment.
    End,
}

/// Header of a fragmented NAL unit: one byte in H.264, two in H.265.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Header {
    /// H.264.
    One(u8),
    /// H.265.
    Two([u8; 2]),
}

impl Header {
    pub(super) fn as_bytes(&self) -> &[u8] {
        match self {
            Self::One(byte) => std::slice::from_ref(byte),
            Self::Two(bytes) => bytes,
        }
    }
}

/// Reason for dropping a payload or the rest of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Refusal {
    /// A reserved or vendor type. Receivers ignore it (RFC 6184, 5.4): nothing is missing.
    Ignored,
    /// A length exceeds the payload, or a header is truncated.
    CutShort,
    /// A packet of the interleaved mode with units out of order (MTAP).
    Interleaved,
}

/// Parts of packets that were dropped, by reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct DropCounts {
    /// Payloads of reserved or vendor types, which are ignored without damage.
    pub ignored: u64,
    /// Payloads with lengths that exceed them.
    pub cut_short: u64,
    /// Payloads of the interleaved mode.
    pub interleaved: u64,
    /// Fragments whose first fragment is missing.
    pub headless: u64,
    /// NAL units without an end bit on their last fragment; they are used.
    pub unterminated: u64,
    /// Access units beyond the size limit.
    pub too_large: u64,
    /// Packets of another payload type than described; they are used if the described type does not arrive.
    pub other_payload_type: u64,
    /// Audio frames without a valid decoder configuration.
    pub unconfigured: u64,
}

impl DropCounts {
    pub(super) fn count(&mut self, refusal: Refusal) {
        match refusal {
            Refusal::Ignored => self.ignored += 1,
            Refusal::CutShort => self.cut_short += 1,
            Refusal::Interleaved => self.interleaved += 1,
        }
    }

    /// Returns the counts with their reasons, as in metrics.
    #[must_use]
    pub fn by_reason(&self) -> [(&'static str, u64); 8] {
        [
            ("reserved-type", self.ignored),
            ("cut-short", self.cut_short),
            ("interleaved-mode", self.interleaved),
            ("headless-fragment", self.headless),
            ("unterminated-fragment", self.unterminated),
            ("too-large", self.too_large),
            ("other-payload-type", self.other_payload_type),
            ("no-audio-configuration", self.unconfigured),
        ]
    }

    /// Returns the most frequent reason for video packets that could not be used, with its count.
    #[must_use]
    pub fn main_obstacle(&self) -> Option<(&'static str, u64)> {
        let obstacles = [
            ("packets of another payload type than the session description names", self.other_payload_type),
            ("packets of the interleaved mode (packetization-mode 2)", self.interleaved),
            ("payloads whose lengths lead beyond them", self.cut_short),
            ("fragments without the first one of their unit", self.headless),
            ("pictures of more than 8 MB", self.too_large),
            ("payloads of reserved or vendor types", self.ignored),
        ];
        obstacles.into_iter().filter(|(_, count)| *count > 0).max_by_key(|(_, count)| *count)
    }

    /// Returns the sums of both.
    #[must_use]
    pub fn sum(self, other: Self) -> Self {
        self.combined(other, u64::saturating_add)
    }

    /// Returns the counts since `before`.
    #[must_use]
    pub fn since(self, before: Self) -> Self {
        self.combined(before, u64::saturating_sub)
    }

    fn combined(self, other: Self, combine: impl Fn(u64, u64) -> u64) -> Self {
        Self {
            ignored: combine(self.ignored, other.ignored),
            cut_short: combine(self.cut_short, other.cut_short),
            interleaved: combine(self.interleaved, other.interleaved),
            headless: combine(self.headless, other.headless),
            unterminated: combine(self.unterminated, other.unterminated),
            too_large: combine(self.too_large, other.too_large),
            other_payload_type: combine(self.other_payload_type, other.other_payload_type),
            unconfigured: combine(self.unconfigured, other.unconfigured),
        }
    }
}

/// Splits an Annex B byte stream (ITU-T H.264 and H.265) at its start codes; some cameras put one into a payload.
pub(super) fn split_annex_b(mut data: &[u8], mut visit: impl FnMut(Piece<'_>)) {
    while !data.is_empty() {
        let begin = data.windows(3).position(|bytes| bytes == [0, 0, 1]);
        let nal = data.get(..begin.unwrap_or(data.len())).unwrap_or_default();
        // Zeros before a start code and at the end do not belong to the unit.
        let end = nal.iter().rposition(|byte| *byte != 0).map_or(0, |at| at + 1);
        if let Some(nal) = nal.get(..end).filter(|nal| !nal.is_empty()) {
            visit(Piece::Whole(nal));
        }
        data = begin.and_then(|begin| data.get(begin + 3..)).unwrap_or_default();
    }
}

/// Parses NAL units with 16-bit lengths, each after a field of `order_bytes`.
pub(super) fn split_aggregate(
    mut payload: &[u8],
    order_bytes: usize,
    further_order_bytes: usize,
    mut visit: impl FnMut(Piece<'_>),
) -> Result<(), Refusal> {
    let mut order_bytes = order_bytes;
    while !payload.is_empty() {
        let size = payload.get(order_bytes..order_bytes + 2).and_then(|size| size.first_chunk::<2>());
        let size = size.map(|size| usize::from(u16::from_be_bytes(*size))).ok_or(Refusal::CutShort)?;
        let rest = payload.get(order_bytes + 2..).unwrap_or_default();
        let (nal, rest) = rest.split_at_checked(size).ok_or(Refusal::CutShort)?;
        visit(Piece::Whole(nal));
        payload = rest;
        order_bytes = further_order_bytes;
    }
    Ok(())
}
