//! Camera discovery: WS-Discovery 1.1 probes, and the ONVIF core, media and media2 services for profiles and stream
//! addresses.
//!
//! All of it is pure: messages are written and parsed, nothing is sent. XML from a device is untrusted: its size and
//! depth are bounded and no entity is expanded.

#![forbid(unsafe_code)]
#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]
#![cfg_attr(test, allow(clippy::as_conversions, reason = "tests build their input by hand"))]

mod device;
mod discovery;
mod encoder;
mod media;
mod security;
mod soap;
mod xml;

pub use device::{
    Capabilities, DeviceFacts, capabilities_request, clock_request, facts_request, read_capabilities,
    read_clock, read_facts, read_name, read_services, scopes_request, services_request,
};
pub use discovery::{Found, MULTICAST_ADDRESS, MULTICAST_PORT, ProbeType, probe, read_matches};
pub use encoder::{
    EncoderChange, EncoderOptions, VideoEncoder, encoders_request, options_request, read_encoders,
    read_options, read_set, set_request,
};
pub use media::{
    MediaService, Profile, profiles_request, read_profiles, read_stream_address, stream_request,
};
pub use security::{Clock, DeviceAccount, password_digest};
pub use soap::{Fault, envelope};
pub use xml::{Element, MAX_BYTES, XmlError};
