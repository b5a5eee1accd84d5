//! ONVIF devices: requests, and the configuration of their encoders.

mod address;
mod client;
mod encoder;
mod tuning;

pub(crate) use address::{default_service, with_host};
pub(crate) use client::{DeviceClient, DeviceError};
pub use tuning::{CameraTarget, ChangedElsewhere, EncoderReport, SetReport, TuneError};
pub(crate) use tuning::{read_encoder, set_encoder};
