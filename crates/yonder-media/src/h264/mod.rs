//! H.264 (ITU-T H.264) without decoding: NAL unit types, sequence parameter set, beginning of the slice header, and the
//! decoder configuration record.

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

/// Size of a NAL unit header (7.3.1), in bytes.
const HEADER: usize = 1;
