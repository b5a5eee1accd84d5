//! H.265 (ITU-T H.265) as far as a relay must understand it: NAL unit kinds, the parameter sets, the beginning of
//! a slice segment header, and the configuration record. Nothing is decoded.

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

/// Bytes of a NAL unit header (7.3.1.2).
const HEADER: usize = 2;
