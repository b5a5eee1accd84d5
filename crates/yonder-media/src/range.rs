//! Values of parameter sets within what the standards allow, the same for both codecs.

use crate::bits::BitsError;

/// Why a sequence parameter set was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SpsError {
    /// The NAL unit is of another kind.
    #[error("not a sequence parameter set")]
    NotAnSps,
    /// The bits end too early or a code is illegal.
    #[error(transparent)]
    Bits(#[from] BitsError),
    /// A value lies outside what the standard allows.
    #[error("{field} is {value}, which is out of range")]
    OutOfRange {
        /// The syntax element's name in the standard.
        field: &'static str,
        /// The value.
        value: u32,
    },
}

/// The value, if it is not above `max`.
pub(crate) fn bounded(field: &'static str, value: u32, max: u32) -> Result<u32, SpsError> {
    if value > max { Err(SpsError::OutOfRange { field, value }) } else { Ok(value) }
}

/// The low byte of a value that was read with at most eight bits or checked against a small bound.
pub(crate) fn byte(value: u32) -> u8 {
    u8::try_from(value & 0xff).unwrap_or_default()
}
