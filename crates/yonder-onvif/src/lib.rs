//! Cameras over ONVIF: WS-Discovery 1.1 probes, and the core, media and media2 services for profiles, stream addresses and
//! encoder configurations.
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

mod audio_encoder;
mod configuration;
mod device;
mod discovery;
mod media;
mod security;
mod soap;
mod video_encoder;
mod xml;

pub use audio_encoder::{
    AudioEncoder, AudioEncoderChange, AudioEncoderOptions, audio_encoders_request, audio_options_request,
    read_audio_encoders, read_audio_options, set_audio_request,
};
pub use device::{
    Capabilities, DeviceFacts, capabilities_request, clock_request, facts_request, read_capabilities,
    read_clock, read_facts, read_name, read_services, scopes_request, services_request,
};
pub use discovery::{Found, MULTICAST_ADDRESS, MULTICAST_PORT, ProbeType, probe, read_matches};
pub use media::{
    MediaService, Profile, profiles_request, read_profiles, read_stream_address, stream_request,
};
pub use security::{Clock, DeviceAccount, password_digest};
pub use soap::{Fault, envelope};
pub use video_encoder::{
    VideoEncoder, VideoEncoderChange, VideoEncoderOptions, read_set, read_video_encoders, read_video_options,
    set_video_request, video_encoders_request, video_options_request,
};
pub use xml::{Element, MAX_BYTES, XmlError};
