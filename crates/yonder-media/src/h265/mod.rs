//! H.265 (ITU-T H.265) without decoding: NAL unit types, parameter sets, beginning of the slice segment header, and the
//! decoder configuration record.

mod level;
mod nal;
mod parameters;
mod pps;
mod record;
mod slice;
pub(crate) mod sps;
mod vps;

pub use level::{ProfileTierLevel, Tier};
pub use nal::{NalKind, is_random_access, kind_of, role_of};
pub use parameters::{Config, ParameterSets};
pub use pps::Pps;
pub use slice::SliceStart;
pub use sps::{Sps, SpsError};
pub use vps::Vps;

/// Size of a NAL unit header (7.3.1.2), in bytes.
const HEADER: usize = 2;
