//! H.264 (ITU-T H.264) as far as a relay must understand it: NAL unit kinds, the sequence parameter set, the
//! beginning of a slice header, Annex B files and the configuration record. Nothing is decoded.

mod annexb;
mod nal;
mod parameters;
mod record;
mod slice;
mod sps;

pub use annexb::{split_access_units, split_nals};
pub use nal::{NalKind, kind_of, unescape};
pub use parameters::ParameterSets;
pub(crate) use record::configuration_record;
pub use slice::{PictureOrder, SliceStart};
pub use sps::{Sps, SpsError};
