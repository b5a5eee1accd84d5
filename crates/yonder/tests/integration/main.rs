//! The real binary on loopback, driven through its client and its API. One program, so that it is linked once and its
//! tests, which mostly wait, run side by side.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod alerts;
mod book;
mod camera_side;
mod clock;
mod commands;
mod front_door;
mod hold;
mod ingest;
mod jobs;
mod keep_running;
mod maintenance;
mod moved_camera;
mod on_air;
mod our_faults;
mod people;
mod platform_side;
mod power_cuts;
mod record;
mod renditions;
mod secrets;
mod signposts;
#[path = "../support/mod.rs"]
mod support;
mod tuning;
mod uplinks;
