//! Counts of skipped data on an RTSP connection.

/// Counts of skipped data on one connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Skipped {
    /// Bytes that belong neither to a message nor to an interleaved frame.
    pub bytes: u64,
    /// Header lines without a colon or with an invalid name.
    pub header_lines: u64,
}

impl Skipped {
    /// Returns the sum of both.
    #[must_use]
    pub fn sum(self, other: Self) -> Self {
        Self { bytes: self.bytes + other.bytes, header_lines: self.header_lines + other.header_lines }
    }

    /// Returns the counts since `earlier`.
    #[must_use]
    pub fn since(self, earlier: Self) -> Self {
        Self {
            bytes: self.bytes.saturating_sub(earlier.bytes),
            header_lines: self.header_lines.saturating_sub(earlier.header_lines),
        }
    }

    /// Returns the counts with their reasons.
    #[must_use]
    pub fn by_reason(self) -> [(&'static str, u64); 2] {
        [("stray-bytes", self.bytes), ("malformed-header", self.header_lines)]
    }
}
