//! Viewers of HLS streams: a checker that reads playlists and segments by the standards, on its own.

mod checker;
mod mp4;
mod playlist;

#[cfg(test)]
mod tests;

pub use checker::{HlsChecker, Wanted};
