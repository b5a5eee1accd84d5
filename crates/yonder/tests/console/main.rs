//! The console in headless Chromium, driven by `WebDriver`.
//!
//! Needs Debian's packages `chromium` and `chromium-driver`.
//! With `YONDER_SCREENSHOTS` naming a folder, pictures of each page are kept there.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod browser;
mod crowd;
mod own_tls;
mod pages;
mod path;
mod renditions;
mod roles;
#[path = "../support/mod.rs"]
mod support;
mod terminal;
mod tuning;
mod watch;

/// Password of the first person.
const PASSWORD: &str = "three lamps at night";
