//! Range checks of parameter set fields, for both codecs.

use crate::bits::BitsError;

/// Error in a sequence parameter set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SpsError {
    /// The NAL unit is of another kind.
    #[error("not a sequence parameter set")]
    NotAnSps,
    /// Truncated, or an illegal code.
    #[error(transparent)]
    Bits(#[from] BitsError),
    /// Value out of the standard's range.
    #[error("{field} is {value}, which is out of range")]
    OutOfRange {
        /// Name of the syntax element.
        field: &'static str,
        /// Value.
        value: u32,
    },
}

/// Returns the value if it is at most `max`.
pub(crate) fn bounded(field: &'static str, value: u32, max: u32) -> Result<u32, SpsError> {
    if value > max { Err(SpsError::OutOfRange { field, value }) } else { Ok(value) }
}

/// Returns the low byte of a value that has at most eight bits.
pub(crate) fn byte(value: u32) -> u8 {
    u8::try_from(value & 0xff).unwrap_or_default()
}
