//! Simulated devices: stand-in cameras, encoders and platforms on real sockets, for demonstrations and tests. They can be
//! switched off and on at run time, and have faults on demand.

mod camera;
mod device;
mod encoder;
mod encoding;
mod hls;
mod listener;
mod media;
mod platform;
mod railway;
mod tls;

pub use camera::{
    CAMERA_COMMANDS, Camera, CameraConfig, CameraEncoders, CameraFaults, CameraStream, Description,
    Impairment, Marker, Oddities, SignIn, Transports,
};
pub use device::{Device, DeviceConfig, DeviceProfile, DeviceSignIn, EncoderQuirk};
pub use encoder::{ENCODER_COMMANDS, Encoder, EncoderConfig, EncoderFaults, EncoderState, SrtEncryption};
pub use encoding::StreamSettings;
pub use hls::{HlsChecker, Wanted};
pub use media::{LoopAudio, LoopFrame, LoopMedia, MediaError};
pub use platform::{
    Limits, PLATFORM_COMMANDS, Platform, PlatformConfig, PlatformFaults, Recording, SrtConfig, Stage,
};
pub use railway::{RailwayFeed, railway_feeds, tunnel_media};
pub use tls::{Certificate, TestAuthority};
