//! The engine against stand-in cameras and platforms. One program, so that it is linked once and its tests, which
//! mostly wait, run side by side.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod actor;
mod camera_faults;
mod camera_oddities;
mod camera_quirks;
mod capture;
mod fan_out;
mod faults;
mod find;
mod hls;
mod holding;
#[path = "../../../yonder-media/tests/inspector/mod.rs"]
mod inspector;
mod platform_side;
mod preview;
mod publishers;
mod relay;
mod renditions;
mod shutdown;
mod srt_path;
#[path = "../support/mod.rs"]
mod support;
mod survey;
mod transport;
mod tuning;
mod uplinks;
