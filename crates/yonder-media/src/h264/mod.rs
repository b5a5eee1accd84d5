//! H.264 (ITU-T H.264) as far as a relay must understand it: NAL unit kinds, the sequence parameter set, the
//! beginning of a slice header, and the configuration record. Nothing is decoded.

mod nal;
mod parameters;
mod record;
mod sei;
mod slice;
pub(crate) mod sps;
mod unchanged;

pub use nal::{NalKind, kind_of, role_of};
pub use parameters::{Config, ParameterSets};
pub use sei::{is_random_access, recovery_frame_count};
pub use slice::SliceStart;
pub use sps::{Sps, SpsError};
pub use unchanged::unchanged_picture;

/// Bytes of a NAL unit header (7.3.1).
const HEADER: usize = 1;
