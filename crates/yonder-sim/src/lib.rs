//! Simulated devices: stand-in cameras and platforms on real sockets, for demonstrations and tests. They can be switched off and
//! on at run time, and have faults on demand.

mod camera;
mod device;
mod door;
mod media;
mod platform;
mod railway;
mod tls;

pub use camera::{
    Camera, CameraConfig, CameraStream, Description, Manners, Marker, Oddities, SignIn, Transports, WORDS,
    Weather,
};
pub use device::{Device, DeviceConfig, DeviceProfile, DeviceSignIn};
pub use media::{LoopFrame, LoopMedia, LoopSound, MediaError};
pub use platform::{
    Limits, PLATFORM_WORDS, Platform, PlatformConfig, PlatformManners, Recording, SrtConfig, Stage,
};
pub use railway::{RailwayFeed, railway_feeds, tunnel_media};
pub use tls::{Certificate, TestAuthority};
